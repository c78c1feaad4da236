import type { PipelineDocument, Tile } from "../api/client";
import { type LookFrame, streamLooks } from "../api/looks";
import { type Snapshot, textOf } from "../api/queries";
import type { PictureWidth } from "./widths";

/** A place for a tile: what it is known by, which of the wish's documents, which image and variant it shows. */
export interface Spot {
  key: string;
  document: number;
  image: number;
  variant: number;
}

/** What is to be seen: `sight` are the spots on the screen, `near` those that may soon be, both in `spots`. */
export interface TilesWish {
  dataset: Snapshot;
  documents: readonly PipelineDocument[];
  spots: readonly Spot[];
  sight: ReadonlySet<string>;
  near: ReadonlySet<string>;
  /** Whether the tiles pass by: nobody looks closely, quick looks will do. */
  passing: boolean;
  width: PictureWidth;
}

/** A tile with a picture: a quick look, or exact. `made`: what it was made from and how wide. */
export interface Look {
  tile: Tile;
  jpeg: Uint8Array<ArrayBuffer>;
  exact: boolean;
  made: string;
}

/** Whatever shows a spot's tile. */
export interface Viewer {
  /** Another look is there. `made`: what the spot is to show by now. */
  show: (look: Look, picture: Picture | null, made: string) => void;
  /** What is shown may be of an earlier pipeline by now. */
  expect: (made: string) => void;
  /** What is shown has been of an earlier pipeline for a while, where that is so. */
  dim: () => void;
}

/** What is known once the hand rests, for all that need not follow every tile. */
export interface Settled {
  /** What the tiles in sight were made from; "" before any are there. */
  made: string;
  /** Every tile in sight is exact. */
  exact: boolean;
  tiles: ReadonlyMap<string, Tile>;
  runs: string[][];
  error: Error | null;
}

/** Each change of the page costs about as much as drawing ten tiles: those that arrive within this time change together. */
const TOGETHER_MS = 56;
/** Listeners that need not follow every tile are told this long after they are shown. */
const REST_MS = 20;
const SLOW_MS = 400;
/** What is replaced sooner never dims. */
const PATIENCE_MS = 250;
/** Tiles asked for at once beyond those in sight and near. */
const AHEAD = 96;
/** Small pictures that are kept, bytes. */
const MOST_BYTES = 64 << 20;

/** Tiles of one stream. exact: quick looks are followed by exact pictures; background: none of them is in sight. */
interface Batch {
  spots: Spot[];
  exact: boolean;
  background: boolean;
}

interface UnderWay extends Batch {
  controller: AbortController;
}

const NOTHING: Settled = { made: "", exact: false, tiles: new Map(), runs: [], error: null };

/**
 * Tiles on their way to the screen, outside of React: a change of the pipeline asks for them in one stream, in sight first;
 * each is shown as it comes, as a quick look and then exact; the next change breaks the stream off.
 */
export class TileFeed {
  private wish: TilesWish | null = null;
  /** What the tiles of each of the wish's documents are made from: worked out once, as every tile is held against it. */
  private made: string[] = [];
  private looks = new Map<string, Look>();
  private viewers = new Map<string, Viewer>();
  private readonly decoding = new Map<string, Look>();
  private readonly ready = new Map<string, { look: Look; picture: Picture | null }>();
  private under_way: UnderWay | null = null;
  private lastShown = 0;
  private showing = 0;
  private telling = 0;
  private dimming = 0;
  private listeners = new Set<() => void>();
  private settled = NOTHING;
  private runs: string[][] = [];
  private refused: { made: string; error: Error } | null = null;

  /** Ask for tiles; what is there already stays. */
  ask(wish: TilesWish): void {
    const before = this.wish;
    const made = wish.documents.map((document) => madeFrom(wish.dataset, document, wish.width));
    const changed = before === null || made.some((each, place) => each !== this.made[place]);
    this.wish = wish;
    this.made = made;
    if (before && before.dataset.id !== wish.dataset.id) this.looks.clear();
    if (changed) {
      for (const spot of wish.spots) this.viewers.get(spot.key)?.expect(this.madeOf(spot));
      clearTimeout(this.dimming);
      this.dimming = window.setTimeout(() => {
        for (const viewer of this.viewers.values()) viewer.dim();
      }, PATIENCE_MS);
    }
    if (changed || (this.under_way?.background && this.lacksSight()) || (wish.passing && this.onlyExactIsLeft())) this.breakOff();
    void this.work();
  }

  /** Whether something in sight is not as it is wanted. */
  private lacksSight(): boolean {
    return this.inSight().some((spot) => this.lacks(spot));
  }

  /** Whether the stream under way has nothing to bring any more but what is exact. */
  private onlyExactIsLeft(): boolean {
    return Boolean(this.under_way?.exact && this.under_way.spots.every((spot) => this.isFresh(spot)));
  }

  private breakOff(): void {
    this.under_way?.controller.abort();
    this.under_way = null;
  }

  private inSight(): Spot[] {
    const { wish } = this;
    return wish?.spots.filter((spot) => wish.sight.has(spot.key)) ?? [];
  }

  /** The same tiles of a changed document, before anything else has noticed the change. */
  follow(document: PipelineDocument): void {
    if (this.wish && this.wish.documents[0] !== document) this.ask({ ...this.wish, documents: [document] });
  }

  /** Let a viewer show a spot's tile from now on; gives how to end it. */
  attach(key: string, viewer: Viewer): () => void {
    this.viewers.set(key, viewer);
    const spot = this.wish?.spots.find((each) => each.key === key);
    if (this.wish && spot) viewer.expect(this.madeOf(spot));
    void this.decode(key);
    return () => {
      if (this.viewers.get(key) === viewer) this.viewers.delete(key);
    };
  }

  subscribe = (listener: () => void): (() => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };

  snapshot = (): Settled => this.settled;

  /** End all work; a wish made later begins it anew. */
  stop(): void {
    this.breakOff();
    this.wish = null;
  }

  /** Whether every tile in sight is before the eyes, and not only there. */
  isShown(): boolean {
    return this.hasSight() && this.ready.size + this.decoding.size === 0 && this.inSight().every(({ key }) => this.viewers.has(key));
  }

  private madeOf(spot: Spot): string {
    return this.made[spot.document] ?? "";
  }

  private isFresh(spot: Spot): boolean {
    return this.wish !== null && this.looks.get(spot.key)?.made === this.madeOf(spot);
  }

  private isExact(spot: Spot): boolean {
    return this.isFresh(spot) && this.looks.get(spot.key)?.exact === true;
  }

  private lacks(spot: Spot): boolean {
    return !(this.wish?.passing ? this.isFresh(spot) : this.isExact(spot));
  }

  /** What to ask for next: in sight, near, and at last quick looks of the others as far as there is room. */
  private next(wish: TilesWish): Batch | null {
    const exact = !wish.passing;
    const sight = this.inSight().filter((spot) => this.lacks(spot));
    if (sight.length) return { spots: sight, exact, background: false };
    const near = wish.spots.filter((spot) => wish.near.has(spot.key) && this.lacks(spot));
    if (near.length) return { spots: near, exact, background: true };
    const kept = [...this.looks.values()].reduce((sum, look) => sum + look.jpeg.length, 0);
    const rest = wish.spots.filter((spot) => !this.isFresh(spot)).slice(0, AHEAD);
    return rest.length && kept < MOST_BYTES ? { spots: rest, exact: false, background: true } : null;
  }

  private async work(): Promise<void> {
    if (this.under_way) return;
    const wish = this.wish;
    const made = this.made[0] ?? "";
    const batch = wish && this.refused?.made !== made ? this.next(wish) : null;
    if (!wish || !batch) return;
    const controller = new AbortController();
    const own = { controller, ...batch };
    this.under_way = own;
    const { documents, width } = wish;
    const tiles = batch.spots.map(({ document, image, variant }) => [document, image, variant] as const);
    try {
      const body = { dataset: wish.dataset.id, documents, tiles, width, exact: batch.exact };
      const steps = await streamLooks(body, controller.signal, (frame) => {
        const spot = batch.spots[frame.place];
        if (spot && !controller.signal.aborted) this.receive(spot, frame);
      });
      if (JSON.stringify(steps) !== JSON.stringify(this.runs)) this.runs = steps;
      this.refused = null;
    } catch (error) {
      if (controller.signal.aborted) return;
      this.refused = { made, error: error instanceof Error ? error : new Error(String(error)) };
    } finally {
      if (this.under_way === own) this.under_way = null;
    }
    this.tellSoon(REST_MS);
    void this.work();
  }

  private receive(spot: Spot, { exact, tile, jpeg }: LookFrame): void {
    const known = tile ?? this.looks.get(spot.key)?.tile;
    if (!known) return;
    this.looks.set(spot.key, { tile: known, jpeg, exact, made: this.madeOf(spot) });
    void this.decode(spot.key);
  }

  /** Decode the look of a spot that has a viewer; it is shown with those that are ready about then. */
  private async decode(key: string): Promise<void> {
    const look = this.viewers.has(key) ? this.looks.get(key) : undefined;
    if (!look) return;
    this.decoding.set(key, look);
    const picture = await decoded(look.jpeg);
    if (this.decoding.get(key) === look) this.decoding.delete(key);
    // A newer look may have overtaken this one.
    if (this.looks.get(key) !== look) {
      picture?.close();
      return;
    }
    this.ready.get(key)?.picture?.close();
    this.ready.set(key, { look, picture });
    this.showSoon();
  }

  private showSoon(): void {
    const all = this.decoding.size === 0 && this.hasSight();
    if (all) clearTimeout(this.showing);
    else if (this.showing) return;
    const wait = all ? 0 : Math.max(0, this.lastShown + TOGETHER_MS - performance.now());
    if (wait) this.showing = window.setTimeout(() => requestAnimationFrame(() => this.show()), wait);
    else requestAnimationFrame(() => this.show());
  }

  private hasSight(): boolean {
    return this.wish !== null && this.inSight().every((spot) => this.isFresh(spot));
  }

  /** Hand all that is decoded to its viewers. */
  private show(): void {
    this.showing = 0;
    if (!this.ready.size) return;
    this.lastShown = performance.now();
    const spots = new Map(this.wish?.spots.map((spot) => [spot.key, spot]));
    for (const [key, { look, picture }] of this.ready) {
      const viewer = this.viewers.get(key);
      const spot = spots.get(key);
      if (viewer && spot) viewer.show(look, picture, this.madeOf(spot));
      else picture?.close();
    }
    this.ready.clear();
    this.tellSoon(this.hasSight() ? REST_MS : SLOW_MS);
  }

  private tellSoon(wait: number): void {
    // While a person scrolls only pictures are read.
    if (this.wish?.passing || (this.telling && wait === SLOW_MS)) return;
    clearTimeout(this.telling);
    this.telling = window.setTimeout(() => {
      this.telling = 0;
      this.tell();
    }, wait);
  }

  private tell(): void {
    const wish = this.wish;
    if (!wish) return;
    const seen = this.inSight();
    const made = this.made[0] ?? "";
    // What was exact once stays so for those who wait for it, though other tiles may come in sight.
    const known = this.settled.exact && this.settled.made === made;
    this.settled = {
      made: seen.length > 0 && seen.every((spot) => this.isFresh(spot)) ? made : this.settled.made,
      exact: known || (seen.length > 0 && seen.every((spot) => this.isExact(spot))),
      tiles: new Map(wish.spots.flatMap(({ key }) => (this.looks.has(key) ? [[key, (this.looks.get(key) as Look).tile] as const] : []))),
      runs: this.runs,
      error: this.refused?.made === made ? this.refused.error : null,
    };
    for (const listener of this.listeners) listener();
  }
}

/** Decoded pixels, until they are closed. */
export type Picture = ImageBitmap | VideoFrame;

const TYPE = "image/jpeg";

/** A picture's pixels; null where there is no picture, or none that can be read. */
async function decoded(jpeg: Uint8Array<ArrayBuffer>): Promise<Picture | null> {
  if (!jpeg.length) return null;
  // Quicker by half, as nothing is registered as a blob first; not every browser has it, and none without a secure connection.
  if ("ImageDecoder" in window) {
    const decoder = new ImageDecoder({ data: jpeg, type: TYPE });
    return decoder.decode().then(
      ({ image }) => image,
      () => null,
    );
  }
  return createImageBitmap(new Blob([jpeg], { type: TYPE })).catch(() => null);
}

/** What a wish's tiles are made from, as `Settled` says it. */
export const madeFrom = (dataset: Snapshot, document: PipelineDocument, width: PictureWidth) =>
  `${width} ${dataset.id} ${dataset.digest} ${textOf(document)}`;
