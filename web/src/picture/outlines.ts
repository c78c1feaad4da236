import type { LabelObject } from "../api/client";

/** What tells an object apart within a row: its source image and its id there. */
export const objectName = (object: { image: string; id: string }) => `${object.image}\n${object.id}`;

/** A key for each object that stays its own while others come and go; a mosaic may hold the same object twice. */
export function keysOf(objects: readonly LabelObject[]): string[] {
  const met = new Map<string, number>();
  return objects.map((object) => {
    const name = objectName(object);
    const before = met.get(name) ?? 0;
    met.set(name, before + 1);
    return before ? `${name} ${before}` : name;
  });
}

/** Objects by their class, in the order in which the classes are met. */
export function byClass(objects: readonly LabelObject[]): [string, LabelObject[]][] {
  const groups = new Map<string, LabelObject[]>();
  for (const object of objects) {
    const group = groups.get(object.class);
    if (group) group.push(object);
    else groups.set(object.class, [object]);
  }
  return [...groups];
}

/** The object at a point of the picture: of those whose boxes hold it, the one with the smallest box. */
export function objectAt(objects: readonly LabelObject[], x: number, y: number): LabelObject | null {
  let found: LabelObject | null = null;
  let least = Number.POSITIVE_INFINITY;
  for (const object of objects) {
    const [left = 0, top = 0, right = 0, bottom = 0] = object.box;
    const area = (right - left) * (bottom - top);
    if (x >= left && x <= right && y >= top && y <= bottom && area <= least) {
      found = object;
      least = area;
    }
  }
  return found;
}

export function boxesOf(objects: readonly LabelObject[]): string {
  return objects
    .map(({ box: [x0 = 0, y0 = 0, x1 = 0, y1 = 0], oriented }) => (oriented ? turnedBox(oriented) : `M${x0} ${y0}H${x1}V${y1}H${x0}Z`))
    .join("");
}

/** An oriented box, and a stroke from the middle of its front inwards that shows where it points. */
function turnedBox(corners: readonly (readonly number[])[]): string {
  const [[ax = 0, ay = 0] = [], [bx = 0, by = 0] = [], [cx = 0, cy = 0] = [], [dx = 0, dy = 0] = []] = corners;
  const [fx, fy] = [(ax + bx) / 2, (ay + by) / 2];
  const [gx, gy] = [(cx + dx) / 2, (cy + dy) / 2];
  return `M${ax} ${ay}L${bx} ${by}L${cx} ${cy}L${dx} ${dy}ZM${fx} ${fy}L${fx + (gx - fx) / 5} ${fy + (gy - fy) / 5}`;
}

/** The skeletons' lines between labelled keypoints. */
export function bonesOf(objects: readonly LabelObject[], lines: readonly (readonly number[])[]): string {
  let path = "";
  for (const { keypoints } of objects) {
    for (const [from = 0, to = 0] of lines) {
      const [a, b] = [keypoints[from], keypoints[to]];
      if (a?.[2] && b?.[2]) path += `M${a[0]} ${a[1]}L${b[0]} ${b[1]}`;
    }
  }
  return path;
}

/** Keypoints that are seen, as lines of no length: round ends make them dots. */
export function dotsOf(objects: readonly LabelObject[]): string {
  let path = "";
  for (const { keypoints } of objects) for (const [x, y, seen = 0] of keypoints) if (seen > 1) path += `M${x} ${y}h0`;
  return path;
}

/** Keypoints that are labelled but hidden, as circles of radius `r`. */
export function ringsOf(objects: readonly LabelObject[], r: number): string {
  let path = "";
  for (const { keypoints } of objects)
    for (const [x = 0, y = 0, seen = 0] of keypoints)
      if (seen === 1) path += `M${x - r} ${y}a${r} ${r} 0 1 0 ${2 * r} 0a${r} ${r} 0 1 0 ${-2 * r} 0`;
  return path;
}

export function polygonOf(parts: NonNullable<LabelObject["polygon"]>): string {
  const ring = (points: readonly (readonly number[])[]) => `M${points.map(([x, y]) => `${x} ${y}`).join("L")}Z`;
  return parts.map((part) => [part.outline, ...part.holes].map(ring).join("")).join("");
}

/** A mask's run lengths, down the columns of its frame, as bars: one for every `every` columns, and that many pixels wide. */
export function maskOf({ left, top, height, counts }: NonNullable<LabelObject["mask"]>, every = 1): string {
  let path = "";
  let at = 0;
  counts.forEach((length, run) => {
    const end = at + length;
    if (run % 2 === 1) {
      while (at < end) {
        const row = at % height;
        const down = Math.min(end - at, height - row);
        const column = (at - row) / height;
        if (column % every === 0) path += `M${left + column} ${top + row}h${every}v${down}h${-every}z`;
        at += down;
      }
    }
    at = end;
  });
  return path;
}
