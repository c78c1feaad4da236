import { type RefObject, useEffect, useState } from "react";

/** A shade at an edge of the rail beyond which there are more stops. */
export function RailEdges({ line }: { line: RefObject<HTMLElement | null> }) {
  const [more, setMore] = useState({ before: false, after: false });
  useEffect(() => {
    const found = line.current;
    if (!found) return;
    const look = () => {
      const before = found.scrollLeft > 2;
      const after = found.scrollLeft + found.clientWidth < found.scrollWidth - 2;
      setMore((now) => (now.before === before && now.after === after ? now : { before, after }));
    };
    const watch = new ResizeObserver(look);
    watch.observe(found);
    if (found.firstElementChild) watch.observe(found.firstElementChild);
    found.addEventListener("scroll", look, { passive: true });
    look();
    return () => {
      watch.disconnect();
      found.removeEventListener("scroll", look);
    };
  }, [line]);
  return (
    <>
      {more.before && <div className="rail-edge" data-side="left" data-testid="rail-edge-left" />}
      {more.after && <div className="rail-edge" data-side="right" data-testid="rail-edge-right" />}
    </>
  );
}
