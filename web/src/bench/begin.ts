import type { QueryClient } from "@tanstack/react-query";
import type { Dataset, ImageRow, PipelineDocument, Revision, Schemas, StepFacts } from "../api/client";
import { askDatasets, askOpenPipeline, askPipelines, askRows, askSteps, openedLast, type RowsWish } from "../api/queries";
import { furnishAfter } from "../shell/furnished";
import { isWorst, type Pick, type Pinned, useView } from "../state/view";
import { askEarly, firstShown } from "./sheet";

/** What the sheet's layout wishes of a dataset. */
export function wishOf(dataset: number, view: { pick: Pick; turn: number; rows: number; pins: Pinned[] }): RowsWish {
  const pinned = [...new Set(view.pins.filter((pin) => pin.dataset === dataset).map((pin) => pin.image))].join(",");
  const pick = isWorst(view.pick) || (view.pick === "pinned" && !pinned) ? "spread" : view.pick;
  return { pick, turn: view.turn, count: view.rows, pinned: pick === "pinned" ? pinned : "" };
}

/** What the page brought with it. */
interface FirstData {
  datasets: Dataset[];
  pipelines: Schemas["Pipeline"][];
  steps: StepFacts[];
  open?: Revision;
  rows?: { dataset: number; count: number; images: ImageRow[] };
}

/** Take over what the page brought with it, as answers to the questions the bench begins with. */
function takeFirst(client: QueryClient, first: FirstData): void {
  client.setQueryData(askSteps.queryKey, first.steps);
  client.setQueryData(askDatasets.queryKey, first.datasets);
  client.setQueryData(askPipelines.queryKey, first.pipelines);
  const wanted = openedLast();
  const isWanted = first.open?.pipeline === wanted || !first.pipelines.some((pipeline) => pipeline.id === wanted);
  if (first.open && isWanted) client.setQueryData(askOpenPipeline.queryKey, first.open);
  const dataset = first.datasets.find((row) => row.id === first.rows?.dataset);
  if (!first.rows || !dataset) return;
  const { rows, pick, turn, dataset: chosen } = useView.getState();
  client.setQueryData(askRows(dataset, { pick: "spread", count: first.rows.count, turn: 0 }).queryKey, first.rows.images);
  const isShown = (chosen ?? first.datasets[0]?.id) === dataset.id && rows === first.rows.count && pick === "spread" && turn === 0;
  if (!isShown || !isWanted || !first.open) return;
  askEarly(dataset, first.rows.images, first.open.document as unknown as PipelineDocument);
  furnishAfter(firstShown());
}

/** Ask for what the bench begins with, all at once and before it is drawn, so that it is drawn once. */
export async function begin(client: QueryClient): Promise<void> {
  const brought = globalThis.document?.getElementById("first-data")?.textContent;
  if (brought) takeFirst(client, JSON.parse(brought));
  void client.prefetchQuery(askOpenPipeline);
  void client.prefetchQuery(askSteps);
  const datasets = await client.fetchQuery(askDatasets).catch(() => []);
  const view = useView.getState();
  const dataset = datasets.find((row) => row.id === view.dataset) ?? datasets[0];
  if (dataset) void client.prefetchQuery(askRows(dataset, wishOf(dataset.id, view)));
}
