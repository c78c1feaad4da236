import { useEffect, useLayoutEffect, useMemo, useState, useSyncExternalStore } from "react";
import type { Dataset, ImageRow, PipelineDocument, Tile } from "../api/client";
import { madeFrom, type Spot, TileFeed } from "../picture/tile-feed";
import type { PictureWidth } from "../picture/widths";
import { useDraft } from "../state/draft";

export interface SheetState {
  feed: TileFeed;
  /** Tiles by image, as they were when all in sight were there last. */
  tiles: Map<number, Tile[]>;
  runs: string[][];
  /** The tiles in sight are of another pipeline, or not exact yet. */
  stale: boolean;
  error: Error | null;
}

/** The rows a person can see, and how many more are laid out on either side. */
export interface Sight {
  first: number;
  last: number;
}

export const AROUND = 4;

export const spotOf = (image: number, variant: number) => `${image}/${variant}`;

/** The variants on an image's row: evaluation images have one output only, through the steps for every image. */
export const variantsOf = (image: ImageRow, variants: number) =>
  image.split === "train" ? Array.from({ length: variants }, (_, place) => place + 1) : [0];

/** The sheet's tiles: those in sight first, their neighbours once those are there, then the others. */
export function useSheet(
  dataset: Dataset,
  images: readonly ImageRow[],
  variants: number,
  document: PipelineDocument,
  sight: Sight,
  width: PictureWidth,
  /** What the pipeline being edited means for this sheet; null where it follows another. */
  following: ((draft: PipelineDocument) => PipelineDocument) | null,
): SheetState {
  const [feed] = useState(() => new TileFeed());
  const spots = useMemo(
    () =>
      images.map((image) =>
        variantsOf(image, variants).map((variant): Spot => ({ key: spotOf(image.id, variant), document: 0, image: image.id, variant })),
      ),
    [images, variants],
  );
  const keysOf = (first: number, last: number) =>
    new Set(spots.slice(Math.max(0, first), last + 1).flatMap((row) => row.map(({ key }) => key)));
  useLayoutEffect(() => {
    if (!spots.length) return;
    const draft = useDraft.getState().document;
    feed.ask({
      dataset,
      // The page may be a change behind the hand.
      documents: [following && draft ? following(draft) : document],
      spots: spots.flat(),
      sight: keysOf(sight.first, sight.last),
      near: keysOf(sight.first - AROUND, sight.last + AROUND),
      width,
    });
  });
  useEffect(() => () => feed.stop(), [feed]);
  // A hand's change goes to the server before the page is drawn anew.
  useEffect(
    () =>
      following === null
        ? undefined
        : useDraft.subscribe((now, before) => {
            if (now.document && now.document !== before.document) feed.follow(following(now.document));
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
  return { feed, tiles, runs: settled.runs, stale, error: settled.error };
}
