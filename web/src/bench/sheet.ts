import { type Query, useQueries } from "@tanstack/react-query";
import { api, type PipelineDocument, type Tile, take } from "../api/client";

/** Show the last answer while a newer one is on its way, but never another dataset's. */
export function keepOf(dataset: number) {
  return <T, K extends readonly unknown[]>(previous: T | undefined, query: Query<T, Error, T, K> | undefined) =>
    query?.queryKey[1] === dataset ? previous : undefined;
}

interface SheetState {
  /** Tiles by image. */
  tiles: Map<number, Tile[]>;
  runs: string[][];
  stale: boolean;
  complete: boolean;
  error: Error | null;
}

/** The sheet's labels and traces, asked for row by row: the first row need not wait for the last. */
export function useSheet(dataset: number, images: number[] | undefined, variants: number, document: PipelineDocument): SheetState {
  const rows = useQueries({
    queries: (images ?? []).map((image) => ({
      queryKey: ["sheet", dataset, image, variants, document],
      queryFn: ({ signal }: { signal: AbortSignal }) =>
        take(api.POST("/api/sheet", { body: { dataset, document: { ...document }, images: [image], variants }, signal })),
      placeholderData: keepOf(dataset),
      staleTime: Number.POSITIVE_INFINITY,
      retry: false,
    })),
  });
  return {
    tiles: new Map(rows.flatMap((row) => row.data?.rows.map(({ image, tiles }) => [image, tiles] as const) ?? [])),
    runs: rows.find((row) => row.data)?.data?.runs.map((run) => run.steps) ?? [],
    stale: rows.some((row) => row.isFetching),
    complete: rows.length > 0 && rows.every((row) => row.isSuccess && !row.isPlaceholderData),
    error: rows.find((row) => row.error)?.error ?? null,
  };
}
