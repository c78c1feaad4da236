import { memo, useMemo } from "react";
import type { LabelObject } from "../api/client";
import type { Layer } from "../state/view";
import { classColor } from "../theme";

interface Props {
  width: number;
  height: number;
  /** Screen pixels for one picture pixel. */
  zoom: number;
  objects: LabelObject[];
  classes: readonly string[];
  lines: readonly (readonly number[])[];
  layers: Record<Layer, boolean>;
  lit: string | null;
  onPoint: (object: string | null) => void;
}

/** What tells an object apart within a row: its source image and its id there. */
export const objectName = (object: { image: string; id: string }) => `${object.image}\n${object.id}`;

/** Labels as vectors over a picture; coordinates are the picture's own, so they sit where the numbers say. */
export const Overlay = memo(function Overlay({ width, height, zoom, objects, classes, lines, layers, lit, onPoint }: Props) {
  const dot = Math.min(3, Math.max(1.1, (width * zoom) / 160)) / zoom;
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      role="img"
      aria-label={`${objects.length} labelled objects`}
      style={{ position: "absolute", inset: 0, width: "100%", height: "100%", overflow: "hidden" }}
      onPointerLeave={() => onPoint(null)}
    >
      {objects.map((object, place) => {
        const color = classColor(classes, object.class);
        const [x0 = 0, y0 = 0, x1 = 0, y1 = 0] = object.box;
        const name = objectName(object);
        const isLit = name === lit;
        const faint = lit !== null && !isLit;
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: a mosaic may hold the same object twice
          <g key={`${name}-${place}`} data-object={object.id} opacity={faint ? 0.35 : 1} onPointerEnter={() => onPoint(name)}>
            <rect x={x0} y={y0} width={x1 - x0} height={y1 - y0} fill="transparent" />
            {layers.masks && object.mask && <MaskImage mask={object.mask} color={color} />}
            {layers.polygons && object.polygon && (
              <path
                d={pathOf(object.polygon)}
                fill={color}
                fillOpacity={isLit ? 0.38 : 0.16}
                fillRule="evenodd"
                stroke={color}
                strokeWidth={isLit ? 2 : 1}
                vectorEffect="non-scaling-stroke"
                pointerEvents="none"
              />
            )}
            {layers.boxes && (
              <rect
                data-box={object.id}
                x={x0}
                y={y0}
                width={x1 - x0}
                height={y1 - y0}
                fill="none"
                stroke={color}
                strokeWidth={isLit ? 2.5 : 1.25}
                vectorEffect="non-scaling-stroke"
                pointerEvents="none"
              />
            )}
            {layers.keypoints && (
              <g pointerEvents="none">
                {lines.map(([from = 0, to = 0]) => {
                  const a = object.keypoints[from];
                  const b = object.keypoints[to];
                  if (!a?.[2] || !b?.[2]) return null;
                  return (
                    <line
                      key={`${from}-${to}`}
                      x1={a[0]}
                      y1={a[1]}
                      x2={b[0]}
                      y2={b[1]}
                      stroke="#fff"
                      strokeOpacity={0.75}
                      strokeWidth={0.9}
                      vectorEffect="non-scaling-stroke"
                    />
                  );
                })}
                {object.keypoints.map(([x = 0, y = 0, seen = 0], number) =>
                  seen > 0 ? (
                    <circle
                      // biome-ignore lint/suspicious/noArrayIndexKey: a keypoint is its place in the skeleton
                      key={number}
                      data-keypoint={number}
                      cx={x}
                      cy={y}
                      r={dot}
                      fill={seen > 1 ? "#fff" : "none"}
                      stroke="#fff"
                      strokeWidth={seen > 1 ? 0 : 0.8}
                      vectorEffect="non-scaling-stroke"
                    />
                  ) : null,
                )}
              </g>
            )}
            {(layers.names || isLit) && (
              <text
                x={Math.max(x0, 2 / zoom)}
                y={y0 > 13 / zoom ? y0 - 3 / zoom : y1 + 11 / zoom}
                style={{ fontSize: `${11 / zoom}px`, fontWeight: 600 }}
                fill={color}
                stroke="#000"
                strokeOpacity={0.75}
                strokeWidth={3 / zoom}
                paintOrder="stroke"
                pointerEvents="none"
              >
                {object.class}
              </text>
            )}
          </g>
        );
      })}
    </svg>
  );
});

function pathOf(parts: NonNullable<LabelObject["polygon"]>): string {
  const ring = (points: readonly (readonly number[])[]) => `M${points.map(([x, y]) => `${x} ${y}`).join("L")}Z`;
  return parts.map((part) => [part.outline, ...part.holes].map(ring).join("")).join("");
}

function MaskImage({ mask, color }: { mask: NonNullable<LabelObject["mask"]>; color: string }) {
  const address = useMemo(() => paintMask(mask, color), [mask, color]);
  return (
    <image
      href={address}
      x={mask.left}
      y={mask.top}
      width={mask.width}
      height={mask.height}
      opacity={0.45}
      preserveAspectRatio="none"
      pointerEvents="none"
    />
  );
}

/** Run lengths, down the columns of the mask's frame, as a picture of one color. */
function paintMask(mask: NonNullable<LabelObject["mask"]>, color: string): string {
  const canvas = document.createElement("canvas");
  canvas.width = mask.width;
  canvas.height = mask.height;
  const context = canvas.getContext("2d");
  if (!context) return "";
  context.fillStyle = color;
  let at = 0;
  mask.counts.forEach((length, run) => {
    if (run % 2 === 1) {
      let place = at;
      const end = at + length;
      while (place < end) {
        const column = Math.floor(place / mask.height);
        const row = place % mask.height;
        const down = Math.min(end - place, mask.height - row);
        context.fillRect(column, row, 1, down);
        place += down;
      }
    }
    at += length;
  });
  return canvas.toDataURL();
}
