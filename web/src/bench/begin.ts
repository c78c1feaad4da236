import type { QueryClient } from "@tanstack/react-query";
import { askDatasets, askOpenPipeline, askRows, askSteps, type RowsWish } from "../api/queries";
import { type Pick, type Pinned, useView } from "../state/view";

/** What the sheet's layout wishes of a dataset. */
export function wishOf(dataset: number, view: { pick: Pick; turn: number; rows: number; pins: Pinned[] }): RowsWish {
  const pinned = [...new Set(view.pins.filter((pin) => pin.dataset === dataset).map((pin) => pin.image))].join(",");
  const pick = view.pick === "pinned" && !pinned ? "spread" : view.pick;
  return { pick, turn: view.turn, count: view.rows, pinned: pick === "pinned" ? pinned : "" };
}

/** Ask for what the bench begins with, all at once and before it is drawn, so that it is drawn once. */
export async function begin(client: QueryClient): Promise<void> {
  void client.prefetchQuery(askOpenPipeline);
  void client.prefetchQuery(askSteps);
  const datasets = await client.fetchQuery(askDatasets).catch(() => []);
  const view = useView.getState();
  const dataset = datasets.find((row) => row.id === view.dataset) ?? datasets[0];
  if (dataset) void client.prefetchQuery(askRows(dataset, wishOf(dataset.id, view)));
}
