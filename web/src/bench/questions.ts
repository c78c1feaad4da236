import { type QueryClient, queryOptions } from "@tanstack/react-query";
import { api, Refusal, take } from "../api/client";
import { type Pick, type Pinned, useView } from "../state/view";

/** All datasets. */
export const askDatasets = queryOptions({ queryKey: ["datasets"], queryFn: () => take(api.GET("/api/datasets")) });

/** The catalogue of steps. */
export const askSteps = queryOptions({
  queryKey: ["steps"],
  queryFn: () => take(api.GET("/api/steps")),
  staleTime: Number.POSITIVE_INFINITY,
});

const OPEN = "varlen-open-pipeline";

/** Which pipeline the bench opens next. */
export function openNext(pipeline: number): void {
  localStorage.setItem(OPEN, String(pipeline));
}

/** The pipeline the bench opens: the one chosen last, or the first. */
export const askPipeline = queryOptions({
  queryKey: ["open-pipeline"],
  queryFn: async () => {
    const pipelines = await take(api.GET("/api/pipelines"));
    const wanted = Number(localStorage.getItem(OPEN));
    const first = pipelines.find((pipeline) => pipeline.id === wanted) ?? pipelines[0];
    if (!first) throw new Refusal("There is no pipeline yet.", [], 404);
    return take(api.GET("/api/pipelines/{id}", { params: { path: { id: first.id } } }));
  },
  staleTime: Number.POSITIVE_INFINITY,
});

/** Which images are on the sheet; pinned: their ids, joined, where these are wanted. */
interface RowsWish {
  pick: Pick;
  turn: number;
  count: number;
  pinned: string;
}

/** What the sheet's layout wishes of a dataset. */
export function wishOf(dataset: number, view: { pick: Pick; turn: number; rows: number; pins: Pinned[] }): RowsWish {
  const pinned = [...new Set(view.pins.filter((pin) => pin.dataset === dataset).map((pin) => pin.image))].join(",");
  const pick = view.pick === "pinned" && !pinned ? "spread" : view.pick;
  return { pick, turn: view.turn, count: view.rows, pinned: pick === "pinned" ? pinned : "" };
}

/** The images of the sheet's rows. */
export const askRows = (dataset: number, { pick, turn, count, pinned }: RowsWish) =>
  queryOptions({
    queryKey: ["rows", dataset, pick, turn, count, pinned],
    queryFn: () =>
      take(
        api.GET("/api/datasets/{id}/rows", {
          params: { path: { id: dataset }, query: { pick, turn, count, ...(pinned ? { images: pinned } : {}) } },
        }),
      ),
  });

/** Ask for what the bench begins with, all at once and before it is drawn, so that it is drawn once. */
export async function begin(client: QueryClient): Promise<void> {
  void client.prefetchQuery(askPipeline);
  void client.prefetchQuery(askSteps);
  const datasets = await client.fetchQuery(askDatasets).catch(() => []);
  const view = useView.getState();
  const dataset = datasets.find((row) => row.id === view.dataset) ?? datasets[0];
  if (dataset) void client.prefetchQuery(askRows(dataset.id, wishOf(dataset.id, view)));
}
