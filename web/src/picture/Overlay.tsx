import { memo, type PointerEvent, useEffect, useRef } from "react";
import type { LabelObject } from "../api/client";
import { classColor, dotsPerPixel, drawLabels, type LabelLook, sayDrawn } from "./draw-labels";
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

/** Pixels that nothing is known about. */
const VOID = 255;
const GROUND = /^(background|ground|none|nothing|unlabel+ed)$/i;

/** The class of every pixel in the classes' colors, over a picture. The ground stays clear. */
export function LabelMap({ address, names }: { address: string; names: readonly string[] }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    if (!names.length) return;
    let wanted = true;
    const image = new Image();
    image.src = address;
    image.decode().then(
      () => wanted && canvas.current && paint(canvas.current, image, names),
      () => undefined, // an image without a label map has none to show
    );
    return () => {
      wanted = false;
    };
  }, [address, names]);
  if (!names.length) return null;
  return (
    <canvas
      ref={canvas}
      data-label-map
      style={{
        position: "absolute",
        inset: 0,
        width: "100%",
        height: "100%",
        opacity: 0.5,
        imageRendering: "pixelated",
        pointerEvents: "none",
      }}
    />
  );
}

function paint(canvas: HTMLCanvasElement, levels: HTMLImageElement, names: readonly string[]): void {
  canvas.width = levels.naturalWidth;
  canvas.height = levels.naturalHeight;
  const context = canvas.getContext("2d", { willReadFrequently: true });
  if (!context) return;
  context.drawImage(levels, 0, 0);
  const pixels = context.getImageData(0, 0, canvas.width, canvas.height);
  const colors = names.map((name) => Number.parseInt(classColor(names, name).slice(1), 16));
  for (let at = 0; at < pixels.data.length; at += 4) {
    const level = pixels.data[at] ?? 0;
    const color = colors[level];
    if (level === VOID || color === undefined || GROUND.test(names[level] ?? "")) pixels.data[at + 3] = 0;
    else pixels.data.set([color >> 16, (color >> 8) & 255, color & 255, 255], at);
  }
  context.putImageData(pixels, 0, 0);
}
