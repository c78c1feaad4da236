import { dotsPerPixel } from "./draw-labels";

/** Draws a piece; the pen's origin is the piece's own corner, one unit a screen pixel times `dots`. */
export type DrawPiece = (pen: CanvasRenderingContext2D, dots: number) => void;

interface Piece {
  width: number;
  height: number;
  /** Null before there is something to show. */
  draw: DrawPiece | null;
  /** Where it lies on the canvas, px; null before that is known. */
  at: { x: number; y: number } | null;
}

/**
 * One canvas under several figures, each of which paints its own piece of it: a browser handles one canvas a row far more quickly
 * than one a tile. Figures keep names, focus and what is pointed at.
 */
export class RowCanvas {
  private canvas: HTMLCanvasElement | null = null;
  private readonly pieces = new Map<HTMLElement, Piece>();
  private laying = false;
  /** The frame's size when the figures' places were found out, px. */
  private laid = { width: 0, height: 0 };
  private readonly watch =
    typeof ResizeObserver === "undefined" ? null : new ResizeObserver(([entry]) => entry && this.resized(entry.contentRect));

  /** The canvas to paint on, as React hands it over. */
  setCanvas = (canvas: HTMLCanvasElement | null): void => {
    this.watch?.disconnect();
    this.canvas = canvas;
    if (!canvas?.parentElement) return;
    this.watch?.observe(canvas.parentElement);
    this.laySoon();
  };

  /** A figure that will show something of `width` × `height` px: the places of all are found out together. */
  place(figure: HTMLElement, width: number, height: number): void {
    if (this.pieces.has(figure)) return;
    this.pieces.set(figure, { width, height, draw: null, at: null });
    this.laySoon();
  }

  /** Paint what a figure shows, `width` × `height` px. */
  paint(figure: HTMLElement, width: number, height: number, draw: DrawPiece): void {
    const before = this.pieces.get(figure);
    const at = before && isSame(before.width, width) && isSame(before.height, height) ? before.at : null;
    const piece = { width, height, draw, at };
    this.pieces.set(figure, piece);
    if (at) this.draw(piece);
    else this.laySoon();
  }

  /** A figure that is gone. */
  remove(figure: HTMLElement): void {
    const piece = this.pieces.get(figure);
    this.pieces.delete(figure);
    if (piece?.at) this.pen()?.clearRect(...this.area(piece));
  }

  private resized({ width, height }: DOMRectReadOnly): void {
    if (!isSame(width, this.laid.width) || !isSame(height, this.laid.height)) this.lay();
  }

  private laySoon(): void {
    if (this.laying) return;
    this.laying = true;
    // Once for all that are painted in this frame.
    queueMicrotask(() => {
      this.laying = false;
      this.lay();
    });
  }

  /** Find out where the figures are, and paint all of them anew. */
  private lay(): void {
    const { canvas } = this;
    const frame = canvas?.parentElement;
    if (!canvas || !frame) return;
    const dots = dotsPerPixel();
    const origin = frame.getBoundingClientRect();
    this.laid = { width: origin.width, height: origin.height };
    const [width, height] = [Math.ceil(origin.width * dots), Math.ceil(origin.height * dots)];
    for (const [figure, piece] of this.pieces) {
      const place = figure.getBoundingClientRect();
      piece.at = { x: place.left - origin.left, y: place.top - origin.top };
    }
    if (canvas.width !== width || canvas.height !== height) {
      canvas.width = width;
      canvas.height = height;
      canvas.style.width = `${width / dots}px`;
      canvas.style.height = `${height / dots}px`;
    } else this.pen()?.clearRect(0, 0, width, height);
    for (const piece of this.pieces.values()) this.draw(piece);
  }

  private draw(piece: Piece): void {
    const pen = this.pen();
    if (!pen || !piece.at || !piece.draw) return;
    const dots = dotsPerPixel();
    const [x, y, width, height] = this.area(piece);
    pen.save();
    pen.beginPath();
    pen.rect(x, y, width, height);
    pen.clip();
    pen.clearRect(x, y, width, height);
    pen.translate(x, y);
    piece.draw(pen, dots);
    pen.restore();
  }

  private pen(): CanvasRenderingContext2D | null {
    const pen = this.canvas?.getContext("2d") ?? null;
    pen?.setTransform(1, 0, 0, 1, 0, 0);
    return pen;
  }

  /** A piece's area in dots of the canvas, on whole dots. */
  private area({ at, width, height }: Piece): [number, number, number, number] {
    const dots = dotsPerPixel();
    const { x, y } = at ?? { x: 0, y: 0 };
    return [Math.round(x * dots), Math.round(y * dots), Math.round(width * dots), Math.round(height * dots)];
  }
}

/** Whether two lengths, px, come to the same on a screen. */
const isSame = (one: number, other: number) => Math.abs(one - other) < 0.02;
