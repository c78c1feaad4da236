import type { LabelObject } from "../api/client";
import type { Layer } from "../state/view";
import { byClass, objectName, traceBones, traceBox, traceKeypoints, traceMask, tracePolygon } from "./outlines";

/** Sixteen class colors that differ in lightness beside hue, for color-blind people too; contact sheets of the terminal use the same. */
const CLASS_COLORS = [
  "#55bbee",
  "#eebb00",
  "#cc6611",
  "#99ffff",
  "#5522ff",
  "#ddff11",
  "#6688ff",
  "#ee8855",
  "#bbdd99",
  "#bb7788",
  "#77ddff",
  "#dd99aa",
  "#aa3377",
  "#9966bb",
  "#9922bb",
  "#bb1100",
];

/** The numbers of all classes that were met, by their names without letter case, spaces and the like. */
const known = new Map<string, number>();
/** The same by the names as they were met: drawing asks for every object. */
const places = new Map<string, number>();
const bare = (name: string) => name.toLowerCase().replaceAll(/[\s_-]+/g, " ");

/** A class has one color wherever it is named the same: colors go to classes in the order of datasets. */
export function knowClasses(datasets: readonly { id: number; classes: readonly string[] }[]): void {
  for (const { classes } of datasets.toSorted((a, b) => a.id - b.id)) meet(classes);
}

function meet(classes: readonly string[]): void {
  for (const name of classes) if (!known.has(bare(name))) known.set(bare(name), known.size);
}

export function classColor(classes: readonly string[], name: string): string {
  let place = places.get(name);
  if (place === undefined) {
    if (!known.has(bare(name))) meet(classes.includes(name) ? classes : [name]);
    place = known.get(bare(name)) ?? 0;
    places.set(name, place);
  }
  return CLASS_COLORS[place % CLASS_COLORS.length] ?? "#ffffff";
}

/** The same colors for lines of a plot, one after the other. */
export const seriesColor = (place: number): string => CLASS_COLORS[place % CLASS_COLORS.length] ?? "#ffffff";

export interface LabelLook {
  classes: readonly string[];
  lines: readonly (readonly number[])[];
  layers: Record<Layer, boolean>;
  /** The object that is pointed at; the others step back. */
  lit: string | null;
}

/** A picture on a canvas: its size, how many screen pixels are one of its own, and how many dots of the canvas are a screen pixel. */
export interface Frame {
  width: number;
  height: number;
  zoom: number;
  dots: number;
}

/** Drawn by layer: how many objects show something of it. */
export type Drawn = Record<Layer, number>;

/** How far the others step back from what is pointed at. */
const FAINT = 0.35;

/**
 * Labels as lines over a picture. Coordinates are the picture's own and line widths the screen's, so that labels sit where the
 * numbers say and look alike at every zoom. What looks alike is one path.
 */
export function drawLabels(pen: CanvasRenderingContext2D, objects: readonly LabelObject[], frame: Frame, look: LabelLook): Drawn {
  const drawn: Drawn = { boxes: 0, polygons: 0, masks: 0, keypoints: 0, names: 0 };
  pen.save();
  pen.scale(frame.dots, frame.dots);
  const lit = look.lit === null ? [] : objects.filter((object) => objectName(object) === look.lit);
  const others = look.lit === null ? objects : objects.filter((object) => objectName(object) !== look.lit);
  pen.lineJoin = "miter";
  drawAll(pen, others, frame, look, look.lit === null ? 1 : FAINT, false, drawn);
  if (lit.length) drawAll(pen, lit, frame, look, 1, true, drawn);
  pen.restore();
  return drawn;
}

function drawAll(
  pen: CanvasRenderingContext2D,
  objects: readonly LabelObject[],
  frame: Frame,
  { classes, lines, layers }: LabelLook,
  opacity: number,
  strong: boolean,
  drawn: Drawn,
): void {
  const { zoom, dots } = frame;
  // Traced in the picture's pixels, stroked in the screen's.
  const trace = (path: () => void) => {
    pen.beginPath();
    pen.scale(zoom, zoom);
    path();
    pen.scale(1 / zoom, 1 / zoom);
  };
  const stroke = (style: string, width: number, alpha = 1) => {
    pen.globalAlpha = alpha * opacity;
    pen.strokeStyle = style;
    pen.lineWidth = width;
    pen.stroke();
  };
  const fill = (style: string, alpha: number) => {
    pen.globalAlpha = alpha * opacity;
    pen.fillStyle = style;
    pen.fill("evenodd");
  };
  // Bars narrower than a dot of the screen cost time and can't be seen.
  const bar = Math.max(1, Math.floor(1 / (zoom * dots)));
  for (const { mask, polygon, ...object } of objects) {
    const color = classColor(classes, object.class);
    if (layers.masks && mask) {
      trace(() => traceMask(pen, mask, bar));
      fill(color, 0.45);
      drawn.masks++;
    }
    if (layers.polygons && polygon) {
      trace(() => tracePolygon(pen, polygon));
      fill(color, strong ? 0.38 : 0.16);
      stroke(color, strong ? 2 : 1);
      drawn.polygons++;
    }
  }
  if (layers.boxes) {
    for (const [name, members] of byClass(objects)) {
      trace(() => {
        for (const object of members) traceBox(pen, object);
      });
      stroke(classColor(classes, name), strong ? 2.5 : 1.25);
      drawn.boxes += members.length;
    }
  }
  const pointed = objects.filter((object) => object.keypoints.some(([, , seen = 0]) => seen > 0));
  if (layers.keypoints && pointed.length) {
    const dot = Math.min(3, Math.max(1.1, (frame.width * zoom) / 160));
    const traceAll = (seen: 1 | 2) =>
      trace(() => {
        for (const object of pointed) traceKeypoints(pen, object, seen, dot / zoom);
      });
    trace(() => {
      for (const object of pointed) traceBones(pen, object, lines);
    });
    stroke("#fff", 0.9, 0.75);
    traceAll(2);
    fill("#fff", 1);
    traceAll(1);
    stroke("#fff", 0.8);
    drawn.keypoints += pointed.length;
  }
  if (layers.names || strong) {
    for (const object of objects) drawName(pen, object, frame, classColor(classes, object.class), opacity);
    drawn.names += objects.length;
  }
}

function drawName(pen: CanvasRenderingContext2D, object: LabelObject, { width, zoom }: Frame, color: string, opacity: number): void {
  const [left = 0, top = 0, right = 0, bottom = 0] = object.box;
  // On the right a name ends with its box, so that it is not cut off.
  const ends = left > width * 0.6;
  const x = ends ? Math.min(right * zoom, width * zoom - 2) : Math.max(left * zoom, 2);
  const y = top * zoom > 13 ? top * zoom - 3 : bottom * zoom + 11;
  pen.font = "600 11px 'Inter Variable', sans-serif";
  pen.textAlign = ends ? "right" : "left";
  pen.globalAlpha = 0.75 * opacity;
  pen.strokeStyle = isDark(color) ? "#fff" : "#000";
  pen.lineWidth = 3;
  pen.lineJoin = "round";
  pen.strokeText(object.class, x, y);
  pen.globalAlpha = opacity;
  pen.fillStyle = color;
  pen.fillText(object.class, x, y);
}

/** Whether a color, #rrggbb, can't be read on black: by its luminance, with Rec. 709's weights, without their gamma. */
function isDark(color: string): boolean {
  const [red, green, blue] = [1, 3, 5].map((place) => Number.parseInt(color.slice(place, place + 2), 16)) as [number, number, number];
  return 0.2126 * red + 0.7152 * green + 0.0722 * blue < 96;
}

/** Dots of a canvas for one screen pixel; more than two can't be told apart. */
export const dotsPerPixel = () => Math.min(window.devicePixelRatio || 1, 2);

/** Say on an element what was drawn in it: for screen readers and for scripts. */
export function sayDrawn(element: HTMLElement, objects: readonly LabelObject[], drawn: Drawn): void {
  element.setAttribute(element.tagName === "FIGURE" ? "aria-description" : "aria-label", `${objects.length} labelled objects`);
  for (const [layer, count] of Object.entries(drawn)) element.dataset[layer] = String(count);
}
