import { type RefObject, useEffect, useRef, useState } from "react";

/** A frame and how large it is now, in screen pixels. */
export function useRoom(): [RefObject<HTMLDivElement | null>, { width: number; height: number }] {
  const frame = useRef<HTMLDivElement>(null);
  const [room, setRoom] = useState({ width: 600, height: 500 });
  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => entry && setRoom({ width: entry.contentRect.width, height: entry.contentRect.height }));
    if (frame.current) watch.observe(frame.current);
    return () => watch.disconnect();
  }, []);
  return [frame, room];
}
