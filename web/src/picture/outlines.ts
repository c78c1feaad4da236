import type { LabelObject } from "../api/client";

/** What tells an object apart within a row: its source image and its id there. */
export const objectName = (object: { image: string; id: string }) => `${object.image}\n${object.id}`;

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

/** What outlines are traced with: a canvas' path. */
export type Path = Pick<CanvasPath, "moveTo" | "lineTo" | "closePath" | "rect" | "arc">;

type Points = readonly (readonly number[])[];

function traceRing(path: Path, points: Points): void {
  points.forEach(([x = 0, y = 0], place) => {
    if (place) path.lineTo(x, y);
    else path.moveTo(x, y);
  });
  path.closePath();
}

/** A box; an oriented one with a stroke from the middle of its front inwards that shows where it points. */
export function traceBox(path: Path, { box: [x0 = 0, y0 = 0, x1 = 0, y1 = 0], oriented }: LabelObject): void {
  if (!oriented) {
    path.rect(x0, y0, x1 - x0, y1 - y0);
    return;
  }
  const [[ax = 0, ay = 0] = [], [bx = 0, by = 0] = [], [cx = 0, cy = 0] = [], [dx = 0, dy = 0] = []] = oriented as Points;
  const [fx, fy] = [(ax + bx) / 2, (ay + by) / 2];
  const [gx, gy] = [(cx + dx) / 2, (cy + dy) / 2];
  traceRing(path, oriented as Points);
  path.moveTo(fx, fy);
  path.lineTo(fx + (gx - fx) / 5, fy + (gy - fy) / 5);
}

/** The parts of a polygon and their holes. */
export function tracePolygon(path: Path, parts: NonNullable<LabelObject["polygon"]>): void {
  for (const part of parts) for (const ring of [part.outline, ...part.holes]) traceRing(path, ring as Points);
}

/** The skeleton's lines between labelled keypoints. */
export function traceBones(path: Path, { keypoints }: LabelObject, lines: Points): void {
  for (const [from = 0, to = 0] of lines) {
    const [a, b] = [keypoints[from], keypoints[to]];
    if (!a?.[2] || !b?.[2]) continue;
    path.moveTo(a[0] as number, a[1] as number);
    path.lineTo(b[0] as number, b[1] as number);
  }
}

/** A circle of radius `r` around each keypoint that is `seen` (2) or labelled but hidden (1). */
export function traceKeypoints(path: Path, { keypoints }: LabelObject, seen: 1 | 2, r: number): void {
  for (const [x = 0, y = 0, state = 0] of keypoints) {
    if (seen === 2 ? state < 2 : state !== 1) continue;
    path.moveTo(x + r, y);
    path.arc(x, y, r, 0, 2 * Math.PI);
  }
}

/** A mask's run lengths, down the columns of its frame, as bars: one for every `every` columns, and that many pixels wide. */
export function traceMask(path: Path, { left, top, height, counts }: NonNullable<LabelObject["mask"]>, every = 1): void {
  let at = 0;
  counts.forEach((length, run) => {
    const end = at + length;
    if (run % 2 === 1) {
      while (at < end) {
        const row = at % height;
        const down = Math.min(end - at, height - row);
        const column = (at - row) / height;
        if (column % every === 0) path.rect(left + column, top + row, every, down);
        at += down;
      }
    }
    at = end;
  });
}
