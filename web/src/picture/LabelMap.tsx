import { useEffect, useRef } from "react";
import { classColor } from "./class-colors";

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
