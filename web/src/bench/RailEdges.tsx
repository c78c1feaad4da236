import { Box } from "@chakra-ui/react";
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
      {more.before && <Edge side="left" />}
      {more.after && <Edge side="right" />}
    </>
  );
}

function Edge({ side }: { side: "left" | "right" }) {
  return (
    <Box
      data-testid={`rail-edge-${side}`}
      position="absolute"
      top={0}
      bottom={0}
      width="36px"
      left={side === "left" ? "84px" : undefined}
      right={side === "right" ? "104px" : undefined}
      zIndex={3}
      pointerEvents="none"
      background={`linear-gradient(to ${side}, transparent, var(--chakra-colors-bg-raised))`}
      borderRightWidth={side === "right" ? "2px" : 0}
      borderLeftWidth={side === "left" ? "2px" : 0}
      borderColor="amber.border"
    />
  );
}
