import { type Query, useQueries, useQueryClient } from "@tanstack/react-query";
import { useMemo, useRef } from "react";
import { api, type PipelineDocument, type Schemas, type Sheet, type Tile, take } from "../api/client";
import type { PictureWidth } from "./pictures";

/** A row of the sheet, and which steps of its pipeline share a resample. */
type SheetRow = Schemas["Row"] & Pick<Sheet, "runs">;

const texts = new WeakMap<object, string>();

/** A document as it stands in the key of a query: written once, as keys are compared with every change of the page. */
export function textOf(document: object): string {
  const known = texts.get(document);
  if (known !== undefined) return known;
  const text = JSON.stringify(document);
  texts.set(document, text);
  return text;
}

/** Show the last answer while a newer one is on its way, but never another dataset's. */
export function keepOf(dataset: number) {
  return <T, K extends readonly unknown[]>(previous: T | undefined, query: Query<T, Error, T, K> | undefined) =>
    query?.queryKey[1] === dataset ? previous : undefined;
}

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
  dataset: number,
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
  const key = (image: number) => ["sheet", dataset, image, variants, textOf(document)];
  const there = all.slice(sight.first, sight.last + 1).every((image) => client.getQueryData(key(image)) !== undefined);
  const rows = useQueries({
    queries: near.map((image, place) => ({
      queryKey: key(image),
      enabled: there || (begin + place >= sight.first && begin + place <= sight.last),
      queryFn: ({ signal }: { signal: AbortSignal }) => askForRow(image, { dataset, document, variants, width }, signal),
      staleTime: Number.POSITIVE_INFINITY,
      retry: false,
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

interface Question {
  dataset: number;
  document: PipelineDocument;
  variants: number;
  /** Of the pictures that come with the answer. */
  width: PictureWidth;
}

async function askForRow(image: number, { document, ...question }: Question, signal: AbortSignal): Promise<SheetRow> {
  const { rows, runs } = await take(api.POST("/api/sheet", { body: { ...question, document: { ...document }, images: [image] }, signal }));
  const row = rows[0];
  if (!row) throw new Error(`There is no row of image ${image}.`);
  return { ...row, runs };
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
