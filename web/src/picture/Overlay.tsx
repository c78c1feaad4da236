import { memo, useMemo } from "react";
import type { LabelObject } from "../api/client";
import type { Layer } from "../state/view";
import { classColor } from "../theme";
import { bonesOf, boxesOf, byClass, dotsOf, keysOf, maskOf, objectAt, objectName, polygonOf, ringsOf } from "./outlines";

interface Look {
  /** Screen pixels for one picture pixel. */
  zoom: number;
  classes: readonly string[];
  lines: readonly (readonly number[])[];
  layers: Record<Layer, boolean>;
}

interface Props extends Look {
  width: number;
  height: number;
  objects: LabelObject[];
  lit: string | null;
  onPoint?: (object: string | null) => void;
}

const NONE: LabelObject[] = [];

/**
 * Labels as vectors over a picture; coordinates are the picture's own, so they sit where the numbers say.
 * A sheet shows thousands of boxes and keypoints: what looks alike is one path, and what is pointed at is found by arithmetic.
 */
export const Overlay = memo(function Overlay({ width, height, objects, lit, onPoint, ...look }: Props) {
  const [others, chosen] = useMemo(
    () =>
      lit === null
        ? [objects, NONE]
        : [objects.filter((object) => objectName(object) !== lit), objects.filter((object) => objectName(object) === lit)],
    [objects, lit],
  );
  const point = (event: React.PointerEvent<SVGSVGElement>) => {
    const frame = event.currentTarget.getBoundingClientRect();
    const found = objectAt(
      objects,
      ((event.clientX - frame.left) / frame.width) * width,
      ((event.clientY - frame.top) / frame.height) * height,
    );
    onPoint?.(found && objectName(found));
  };
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      role="img"
      aria-label={`${objects.length} labelled objects`}
      style={{ position: "absolute", inset: 0, width: "100%", height: "100%", overflow: "hidden" }}
      onPointerMove={onPoint && point}
      onPointerLeave={onPoint && (() => onPoint(null))}
    >
      <g opacity={lit === null ? 1 : 0.35}>
        <Drawn objects={others} width={width} strong={false} {...look} />
      </g>
      {chosen.length > 0 && <Drawn objects={chosen} width={width} strong {...look} />}
    </svg>
  );
});

interface DrawnProps extends Look {
  objects: LabelObject[];
  width: number;
  strong: boolean;
}

const LINE = { fill: "none", vectorEffect: "non-scaling-stroke" } as const;

/** Every layer of these objects; `strong`: they are what is pointed at. */
const Drawn = memo(function Drawn({ objects, width, zoom, classes, lines, layers, strong }: DrawnProps) {
  const keys = useMemo(() => keysOf(objects), [objects]);
  const groups = useMemo(() => byClass(objects), [objects]);
  // Bars narrower than a screen pixel cost time and can't be seen.
  const bar = Math.max(1, Math.floor(1 / zoom));
  const dot = Math.min(3, Math.max(1.1, (width * zoom) / 160));
  return (
    <g pointerEvents="none">
      {objects.map((object, place) => {
        const color = classColor(classes, object.class);
        return [
          layers.masks && object.mask && (
            <path key={`${keys[place]} mask`} data-layer="masks" d={maskOf(object.mask, bar)} fill={color} fillOpacity={0.45} />
          ),
          layers.polygons && object.polygon && (
            <path
              key={`${keys[place]} polygon`}
              data-layer="polygons"
              d={polygonOf(object.polygon)}
              fill={color}
              fillOpacity={strong ? 0.38 : 0.16}
              fillRule="evenodd"
              stroke={color}
              strokeWidth={strong ? 2 : 1}
              vectorEffect="non-scaling-stroke"
            />
          ),
        ];
      })}
      {layers.boxes &&
        groups.map(([name, members]) => (
          <path
            key={name}
            data-layer="boxes"
            d={boxesOf(members)}
            stroke={classColor(classes, name)}
            strokeWidth={strong ? 2.5 : 1.25}
            {...LINE}
          />
        ))}
      {layers.keypoints && (
        <>
          <path d={bonesOf(objects, lines)} stroke="#fff" strokeOpacity={0.75} strokeWidth={0.9} {...LINE} />
          <path data-layer="keypoints" d={dotsOf(objects)} stroke="#fff" strokeWidth={2 * dot} strokeLinecap="round" {...LINE} />
          <path d={ringsOf(objects, dot / zoom)} stroke="#fff" strokeWidth={0.8} {...LINE} />
        </>
      )}
      {(layers.names || strong) &&
        objects.map((object, place) => {
          const [left = 0, top = 0, right = 0, bottom = 0] = object.box;
          // On the right a name ends with its box, so that it is not cut off.
          const ends = left > width * 0.6;
          return (
            <text
              key={keys[place]}
              x={ends ? Math.min(right, width - 2 / zoom) : Math.max(left, 2 / zoom)}
              textAnchor={ends ? "end" : undefined}
              y={top > 13 / zoom ? top - 3 / zoom : bottom + 11 / zoom}
              style={{ fontSize: `${11 / zoom}px`, fontWeight: 600 }}
              fill={classColor(classes, object.class)}
              stroke="#000"
              strokeOpacity={0.75}
              strokeWidth={3 / zoom}
              paintOrder="stroke"
            >
              {object.class}
            </text>
          );
        })}
    </g>
  );
});
