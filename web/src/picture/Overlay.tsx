import { memo, type PointerEvent, useEffect, useRef } from "react";
import type { LabelObject } from "../api/client";
import { dotsPerPixel, drawLabels, type LabelLook, sayDrawn } from "./draw-labels";
import { objectAt, objectName } from "./outlines";

interface Props extends LabelLook {
  width: number;
  height: number;
  /** Screen pixels for one picture pixel. */
  zoom: number;
  objects: LabelObject[];
  onPoint?: (object: string | null) => void;
}

/** Canvases can't be of any size; beyond this many dots a side labels are drawn more coarsely. */
const MOST_DOTS = 8192;

/** Labels drawn over a picture; what is pointed at is found by arithmetic. */
export const Overlay = memo(function Overlay({ width, height, zoom, objects, classes, lines, layers, lit, onPoint }: Props) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const found = canvas.current;
    const pen = found?.getContext("2d");
    if (!found || !pen) return;
    const dots = Math.min(dotsPerPixel(), MOST_DOTS / Math.max(1, width * zoom, height * zoom));
    found.width = Math.round(width * zoom * dots);
    found.height = Math.round(height * zoom * dots);
    sayDrawn(found, objects, drawLabels(pen, objects, { width, height, zoom, dots }, { classes, lines, layers, lit }));
  }, [width, height, zoom, objects, classes, lines, layers, lit]);
  const point = (event: PointerEvent<HTMLCanvasElement>) => {
    const found = objectUnder(event, objects, width, height);
    onPoint?.(found && objectName(found));
  };
  return (
    <canvas
      ref={canvas}
      role="img"
      style={{ position: "absolute", inset: 0, width: "100%", height: "100%" }}
      onPointerMove={onPoint && point}
      onPointerLeave={onPoint && (() => onPoint(null))}
    />
  );
});

/** The object under the pointer in a picture of width × height shown by the element that the event is about. */
export function objectUnder(event: PointerEvent<HTMLElement>, objects: readonly LabelObject[], width: number, height: number) {
  const frame = event.currentTarget.getBoundingClientRect();
  return objectAt(objects, ((event.clientX - frame.left) / frame.width) * width, ((event.clientY - frame.top) / frame.height) * height);
}
