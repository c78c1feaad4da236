import { useQueries, useQueryClient } from "@tanstack/react-query";
import { useMemo, useRef } from "react";
import type { PipelineDocument, Tile } from "../api/client";
import { askSheetRow, type SheetRow, type Snapshot } from "../api/queries";
import type { PictureWidth } from "../picture/widths";

interface SheetState {
  /** Tiles by image. */
  tiles: Map<number, Tile[]>;
  /** Images whose tiles are of an earlier pipeline. */
  late: ReadonlySet<number>;
  runs: string[][];
  stale: boolean;
  complete: boolean;
  error: Error | null;
}

/** The rows a person can see, and how many more are laid out on either side. */
export interface Sight {
  first: number;
  last: number;
}

export const AROUND = 4;

/**
 * The sheet's labels, traces and small pictures, kept row by row: the rows in sight first, their
 * neighbours once those are there, the others when they come into sight.
 */
export function useSheet(
  dataset: Snapshot,
  images: number[] | undefined,
  variants: number,
  document: PipelineDocument,
  sight: Sight,
  width: PictureWidth,
): SheetState {
  const client = useQueryClient();
  const all = images ?? [];
  const begin = Math.max(0, sight.first - AROUND);
  const near = all.slice(begin, sight.last + 1 + AROUND);
  const ask = (image: number) => askSheetRow(dataset, document, image, variants, width);
  const there = all.slice(sight.first, sight.last + 1).every((image) => client.getQueryData(ask(image).queryKey) !== undefined);
  const rows = useQueries({
    queries: near.map((image, place) => ({
      ...ask(image),
      enabled: there || (begin + place >= sight.first && begin + place <= sight.last),
    })),
  });
  // The last answer for each image on the sheet: shown, dimmed, until there is a newer one.
  const kept = useRef(new Map<number, SheetRow>());
  kept.current = mapOf(all, (image, place) => rows[place - begin]?.data ?? kept.current.get(image));
  const found = (rows.find((row) => row.data)?.data ?? kept.current.get(near[0] ?? -1))?.runs;
  const runs = useMemo(() => found?.map((run) => run.steps) ?? [], [found]);
  return {
    tiles: mapOf(near, (image) => kept.current.get(image)?.tiles),
    late: new Set(near.filter((_, place) => !rows[place]?.data)),
    runs,
    stale: rows.some((row) => row.isFetching),
    complete: rows.length > 0 && rows.every((row) => row.isSuccess),
    error: rows.find((row) => row.error)?.error ?? null,
  };
}

/** What there is for each image. */
function mapOf<T>(images: number[], find: (image: number, place: number) => T | undefined): Map<number, T> {
  const found = new Map<number, T>();
  images.forEach((image, place) => {
    const value = find(image, place);
    if (value !== undefined) found.set(image, value);
  });
  return found;
}
