import { type RefObject, useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState, useSyncExternalStore } from "react";
import type { Dataset, ImageRow, PipelineDocument, Tile } from "../api/client";
import type { RowsWish } from "../api/queries";
import { madeFrom, type Spot, TileFeed, type TilesWish } from "../picture/tile-feed";
import { type PictureWidth, pictureWidth } from "../picture/widths";
import { useDraft } from "../state/draft";
import { isWorst, type Pick, type Pinned } from "../state/view";

/** The width of the step's panel, px. */
export const PANEL = 308;
/** The height of the rail, px. */
export const RAIL_HEIGHT = 136;
export const NARROWEST = 96;
export const WIDEST = 480;
/** Between tiles, px. */
export const TILE_GAP = 12;
/** The sheet's own margins with the line beside the originals, and room for a scroll bar, px. */
const MARGINS = 32 + 13 + 12;

/** The width of tiles that fills a sheet `room` px wide with an original and its variants, in whole pixels. */
export function fittingWidth(room: number, variants: number): number {
  const width = Math.floor((room - MARGINS - TILE_GAP * variants) / (variants + 1));
  return Math.min(Math.max(width, NARROWEST), WIDEST);
}

/** The width of an element as it is now, px; `guess` before it is there, so that nothing is asked for in a width that is not meant. */
export function useRoom(element: RefObject<HTMLElement | null>, guess: number): number {
  const [room, setRoom] = useState(guess);
  useLayoutEffect(() => {
    const found = element.current;
    if (!found) return;
    // Heard for the first time before anything is painted, and without the browser laying out the page once more for it.
    const watch = new ResizeObserver(() => setRoom(found.clientWidth));
    watch.observe(found);
    return () => watch.disconnect();
  }, [element]);
  return room;
}

export interface SheetState {
  feed: TileFeed;
  /** Tiles by image, as they were when all in sight were there last. */
  tiles: Map<number, Tile[]>;
  runs: string[][];
  /** The tiles in sight are of another pipeline, or not exact yet. */
  stale: boolean;
  error: Error | null;
  /** Tell which rows are in sight; the page is not drawn anew for that. */
  look: (sight: Sight) => void;
}

/** The rows a person can see, and whether they are being scrolled. */
export interface Sight {
  first: number;
  last: number;
  passing: boolean;
}

/** Rows on either side that are laid out, and their tiles made, in advance. */
export const AROUND = 4;

export const spotOf = (image: number, variant: number) => `${image}/${variant}`;

/** The variants on an image's row: evaluation images have one output only, through the steps for every image. */
export function variantsOf(image: ImageRow, variants: number, lead?: number): number[] {
  if (image.split !== "train") return [0];
  const first = Array.from({ length: variants }, (_, place) => place + 1);
  return lead === undefined ? first : [lead, ...first.filter((variant) => variant !== lead)].slice(0, variants);
}

/** For images whose rows do not begin with the first variant, the one they begin with. */
export type Leading = ReadonlyMap<number, number>;

export const NO_LEADING: Leading = new Map();

/** The tiles of the pipeline on the bench, kept while another view is looked at. */
export const benchFeed = new TileFeed();

/** What stands above and below a sheet's rows, px: header, rail, tools, numbers, ledger. */
const AROUND_ROWS = 40 + RAIL_HEIGHT + 41 + 20 + 64;

/** The rows that will be in sight once a sheet with tiles of this width is laid out in the window. */
function firstSight(images: readonly ImageRow[], tileWidth: number): Sight {
  let room = window.innerHeight - AROUND_ROWS;
  const last = images.findIndex(({ width, height }) => {
    room -= (tileWidth * height) / width + TILE_GAP;
    return room <= 0;
  });
  return { first: 0, last: last < 0 ? images.length - 1 : last, passing: false };
}

const spotsOf = (images: readonly ImageRow[], variants: number, leading: Leading): Spot[][] =>
  images.map((image) =>
    variantsOf(image, variants, leading.get(image.id)).map((variant) => ({
      key: spotOf(image.id, variant),
      document: 0,
      image: image.id,
      variant,
    })),
  );

/** What a sheet wishes for. */
export function wishOfSheet(dataset: Dataset, spots: Spot[][], document: PipelineDocument, sight: Sight, width: PictureWidth): TilesWish {
  const keysOf = (first: number, last: number) =>
    new Set(spots.slice(Math.max(0, first), last + 1).flatMap((row) => row.map(({ key }) => key)));
  const [inSight, near] = [keysOf(sight.first, sight.last), keysOf(sight.first - AROUND, sight.last + AROUND)];
  return { dataset, documents: [document], spots: spots.flat(), sight: inSight, near, passing: sight.passing, width };
}

/** Which images the sheet's layout asks for of a dataset; where there are no pinned ones, others instead of an empty sheet. */
export function wishOf(dataset: number, view: { pick: Pick; turn: number; rows: number; pins: Pinned[] }): RowsWish {
  const pinned = [...new Set(view.pins.filter((pin) => pin.dataset === dataset).map((pin) => pin.image))].join(",");
  const pick = isWorst(view.pick) || (view.pick === "pinned" && !pinned) ? "spread" : view.pick;
  return { pick, turn: view.turn, count: view.rows, pinned: pick === "pinned" ? pinned : "" };
}

/** When the sheet was scrolled last, noted as it happens: on a busy machine the page is drawn, and told of it, later. */
let scrolledAt = Number.NEGATIVE_INFINITY;
export const noteScroll = () => {
  scrolledAt = performance.now();
};

/** Rows that moved less than this ago need no exact pictures; once they rest they are asked for again. */
const PASSING_MS = 120;
const isPassing = () => performance.now() - scrolledAt < PASSING_MS;

/** The sheet's tiles: those in sight first, their neighbours once those are there, then the others. */
export function useSheet(
  feed: TileFeed,
  dataset: Dataset,
  images: readonly ImageRow[],
  variants: number,
  leading: Leading,
  document: PipelineDocument,
  tileWidth: number,
  /** What the pipeline being edited means for this sheet; null where it follows another. */
  following: ((draft: PipelineDocument) => PipelineDocument) | null,
): SheetState {
  const spots = useMemo(() => spotsOf(images, variants, leading), [images, variants, leading]);
  const width = pictureWidth(tileWidth);
  const sight = useRef<Sight | null>(null);
  const ask = useRef(() => {});
  useLayoutEffect(() => {
    ask.current = () => {
      if (!spots.length) return;
      const seen = sight.current ?? firstSight(images, tileWidth);
      const draft = useDraft.getState().document;
      // The page may be a change behind the hand.
      const now = { ...seen, passing: seen.passing || isPassing() };
      feed.ask(wishOfSheet(dataset, spots, following && draft ? following(draft) : document, now, width));
    };
    ask.current();
  });
  const look = useCallback((now: Sight) => {
    sight.current = now;
    ask.current();
  }, []);
  useEffect(() => () => feed.stop(), [feed]);
  // A hand's change goes to the server before the page is drawn anew.
  useEffect(
    () =>
      following === null
        ? undefined
        : useDraft.subscribe((now, before) => {
            if (!now.document || now.document === before.document) return;
            if (isPassing()) ask.current();
            else feed.follow(following(now.document));
          }),
    [feed, following],
  );
  const settled = useSyncExternalStore(feed.subscribe, feed.snapshot);
  const [kept] = useState(() => new Map<number, Tile[]>());
  const tiles = useMemo(() => {
    const found = new Map<number, Tile[]>();
    for (const [place, image] of images.entries()) {
      const row = (spots[place] ?? []).flatMap(({ key }) => settled.tiles.get(key) ?? []);
      const before = kept.get(image.id);
      // A row that did not change stays the same, so that it is not drawn anew.
      found.set(image.id, before?.length === row.length && row.every((tile, at) => tile === before[at]) ? before : row);
    }
    kept.clear();
    for (const [image, row] of found) kept.set(image, row);
    return found;
  }, [images, spots, settled, kept]);
  const stale = spots.length === 0 || !settled.exact || settled.made !== madeFrom(dataset, document, width);
  return { feed, tiles, runs: settled.runs, stale, error: settled.error, look };
}
