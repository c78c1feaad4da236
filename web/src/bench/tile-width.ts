import { type RefObject, useLayoutEffect, useState } from "react";

/** The width of the step's panel, px. */
export const PANEL = 308;
/** The height of the rail, px. */
export const RAIL_HEIGHT = 136;
export const NARROWEST = 96;
export const WIDEST = 480;
/** Between tiles, px. */
export const TILE_GAP = 12;
/** The sheet's own margins with the line beside the originals, and room for a scroll bar, px. */
const MARGINS = 32 + 13 + 12;

/** The width of tiles that fills a sheet `room` px wide with an original and its variants, in whole pixels. */
export function fittingWidth(room: number, variants: number): number {
  const width = Math.floor((room - MARGINS - TILE_GAP * variants) / (variants + 1));
  return Math.min(Math.max(width, NARROWEST), WIDEST);
}

/** The width of an element as it is now, px; `guess` before it is there, so that nothing is asked for in a width that is not meant. */
export function useRoom(element: RefObject<HTMLElement | null>, guess: number): number {
  const [room, setRoom] = useState(guess);
  useLayoutEffect(() => {
    const found = element.current;
    if (!found) return;
    // Heard for the first time before anything is painted, and without the browser laying out the page once more for it.
    const watch = new ResizeObserver(() => setRoom(found.clientWidth));
    watch.observe(found);
    return () => watch.disconnect();
  }, [element]);
  return room;
}
