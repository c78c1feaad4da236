import { type Query, type QueryClient, queryOptions } from "@tanstack/react-query";
import { knowClasses } from "../picture/draw-labels";
import type { PictureWidth } from "../picture/widths";
import {
  api,
  type Dataset,
  type Edition,
  type PipelineDocument,
  Refusal,
  type Schemas,
  type Sheet,
  type Trace,
  take,
  takeAt,
} from "./client";

/*
 * Every question to the server, and the key its answer is kept under. An answer that depends on a
 * dataset or a pipeline has their digest or content in its key: after a change it is asked anew.
 */

const FOR_EVER = Number.POSITIVE_INFINITY;

/** What names a dataset as it stands: another digest is another dataset. */
export type Snapshot = Pick<Dataset, "id" | "digest">;

const snapshotKey = ({ id, digest }: Snapshot) => [id, digest] as const;

const texts = new WeakMap<object, string>();

/** A document as it stands in a key: written once, as keys are compared with every change of the page. */
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

/** What can be asked anew, by the first word of its keys. */
type Kind =
  | "datasets"
  | "rows"
  | "overview"
  | "findings"
  | "pipelines"
  | "revisions"
  | "editions"
  | "edition"
  | "trials"
  | "scores"
  | "import"
  | "inquiries"
  | "inquiry"
  | "people"
  | "invitations"
  | "tokens"
  | "log";

/** Ask anew for all answers of some kinds, or for those about one thing of a kind. */
export async function refresh(client: QueryClient, ...kinds: (Kind | readonly [Kind, number])[]): Promise<void> {
  await Promise.all(kinds.map((kind) => client.invalidateQueries({ queryKey: typeof kind === "string" ? [kind] : [...kind] })));
}

// Datasets

export const askDatasets = queryOptions({
  queryKey: ["datasets"],
  queryFn: async () => {
    const found = await take(api.GET("/api/datasets"));
    knowClasses(found);
    return found;
  },
});

/** The formats that datasets are read from and written in, and what their options are called. */
export const askFormats = queryOptions({ queryKey: ["formats"], queryFn: () => take(api.GET("/api/formats")), staleTime: FOR_EVER });

/** Which images are on a sheet. pinned: their ids, joined by commas, for the pick of that name. */
export interface RowsWish {
  pick: "spread" | "smallest" | "most" | "random" | "pinned";
  turn?: number;
  count: number;
  pinned?: string;
}

export const askRows = (dataset: Snapshot, { pick, turn = 0, count, pinned = "" }: RowsWish) =>
  queryOptions({
    queryKey: ["rows", ...snapshotKey(dataset), pick, turn, count, pinned],
    queryFn: () =>
      take(
        api.GET("/api/datasets/{id}/rows", {
          params: { path: { id: dataset.id }, query: { pick, turn, count, ...(pinned ? { images: pinned } : {}) } },
        }),
      ),
  });

export const askOverview = (dataset: number) =>
  queryOptions({
    queryKey: ["overview", dataset],
    queryFn: () => take(api.GET("/api/datasets/{id}/overview", { params: { path: { id: dataset } } })),
  });

/** examining: pictures are still being decoded, so there may be more to find. */
export const askFindings = (dataset: number, examining: boolean) =>
  queryOptions({
    queryKey: ["findings", dataset, examining],
    queryFn: () => take(api.GET("/api/datasets/{id}/findings", { params: { path: { id: dataset } } })),
  });

export const askImage = (dataset: Snapshot, image: number) =>
  queryOptions({
    queryKey: ["image", ...snapshotKey(dataset), image],
    queryFn: () => take(api.GET("/api/images/{id}", { params: { path: { id: image } } })),
  });

export const imagesKey = (dataset: Snapshot, filter: object) => ["images", ...snapshotKey(dataset), filter];

/** The `place`th image that meets a filter. */
export const askOneImage = (dataset: Snapshot, filter: object, place: number) =>
  queryOptions({
    queryKey: [...imagesKey(dataset, filter), "one", place],
    queryFn: async () => {
      const query = { ...filter, offset: place, count: 1 };
      const page = await take(api.GET("/api/datasets/{id}/images", { params: { path: { id: dataset.id }, query } }));
      return page.images;
    },
  });

export const askImport = (id: number) =>
  queryOptions({ queryKey: ["import", id], queryFn: () => take(api.GET("/api/imports/{id}", { params: { path: { id } } })) });

export const askFolders = (path: string) =>
  queryOptions({ queryKey: ["folders", path], queryFn: () => take(api.GET("/api/folders", { params: { query: { path } } })) });

/** What needs a dataset, and what would be free without it. */
export const askUses = (dataset: number) =>
  queryOptions({
    queryKey: ["uses", dataset],
    queryFn: () => take(api.GET("/api/datasets/{id}", { params: { path: { id: dataset } } })),
    staleTime: 0,
  });

// Pipelines

export const askSteps = queryOptions({ queryKey: ["steps"], queryFn: () => take(api.GET("/api/steps")), staleTime: FOR_EVER });

/** Pipelines to begin with. */
export const askStartingPoints = queryOptions({
  queryKey: ["starting-points"],
  queryFn: () => take(api.GET("/api/starting-points")),
  staleTime: FOR_EVER,
});

export const askPipelines = queryOptions({ queryKey: ["pipelines"], queryFn: () => take(api.GET("/api/pipelines")) });

/** A pipeline's newest revision; `latest` is its number. */
export const askPipeline = (id: number, latest: number) =>
  queryOptions({
    queryKey: ["pipeline", id, latest],
    queryFn: () => take(api.GET("/api/pipelines/{id}", { params: { path: { id } } })),
  });

export const askRevisions = (pipeline: number | null) =>
  queryOptions({
    queryKey: ["revisions", pipeline],
    queryFn: () => take(api.GET("/api/pipelines/{id}/revisions", { params: { path: { id: pipeline ?? 0 } } })),
    enabled: pipeline !== null,
    staleTime: 0,
  });

export const askDifferences = (before: PipelineDocument, after: PipelineDocument) =>
  queryOptions({
    queryKey: ["compare", textOf(before), textOf(after)],
    queryFn: () => take(api.POST("/api/compare", { body: { before: { ...before }, after: { ...after } } })),
    staleTime: FOR_EVER,
    retry: false,
  });

const OPEN = "varlen-open-pipeline";

/** Which pipeline the bench opens next. */
export function openNext(pipeline: number): void {
  localStorage.setItem(OPEN, String(pipeline));
}

/** The pipeline the bench opens: the one chosen last, or the first. */
export const askOpenPipeline = queryOptions({
  queryKey: ["open-pipeline"],
  queryFn: async () => {
    const pipelines = await take(api.GET("/api/pipelines"));
    const wanted = Number(localStorage.getItem(OPEN));
    const first = pipelines.find((pipeline) => pipeline.id === wanted) ?? pipelines[0];
    if (!first) throw new Refusal("There is no pipeline yet.", [], 404);
    return take(api.GET("/api/pipelines/{id}", { params: { path: { id: first.id } } }));
  },
  staleTime: FOR_EVER,
});

// The bench: a dataset and a pipeline

/** A row of the sheet, and which steps of its pipeline share a resample. */
export type SheetRow = Schemas["Row"] & Pick<Sheet, "runs">;

/** width: of the pictures that come with the answer, 0 for none. */
export const askSheetRow = (dataset: Snapshot, document: PipelineDocument, image: number, variants: number, width: PictureWidth | 0) =>
  queryOptions({
    queryKey: ["sheet", ...snapshotKey(dataset), image, variants, textOf(document)],
    queryFn: async ({ signal }): Promise<SheetRow> => {
      const body = { dataset: dataset.id, document: { ...document }, images: [image], variants, width };
      const { rows, runs } = await take(api.POST("/api/sheet", { body, signal }));
      const row = rows[0];
      if (!row) throw new Error(`There is no row of image ${image}.`);
      return { ...row, runs };
    },
    staleTime: FOR_EVER,
    retry: false,
  });

/** A variant's trace with the digest of its full-size pixels. */
export const askTrace = (address: string) =>
  queryOptions({
    queryKey: ["trace", address],
    queryFn: () => takeAt<Trace & { pixel_digest: string }>(`${address}/trace`),
    staleTime: FOR_EVER,
  });

/** The composed matrix of each resample of a tile. */
export const askMoves = (address: string) =>
  queryOptions({
    queryKey: ["moves", address],
    queryFn: () => takeAt<Schemas["Moves"][]>(`${address}/moves`),
    staleTime: FOR_EVER,
  });

type Wanted = Omit<Schemas["LedgerRequestRequest"], "dataset" | "document">;

export const askLedger = (dataset: Snapshot, document: PipelineDocument, order: Wanted) =>
  queryOptions({
    queryKey: ["ledger", ...snapshotKey(dataset), order, textOf(document)],
    queryFn: ({ signal }) => take(api.POST("/api/ledger", { body: { dataset: dataset.id, document: { ...document }, ...order }, signal })),
    staleTime: FOR_EVER,
    retry: false,
  });

export const askForecast = (dataset: Snapshot, document: PipelineDocument, draws: number) =>
  queryOptions({
    queryKey: ["forecast", ...snapshotKey(dataset), draws, textOf(document)],
    queryFn: ({ signal }) => take(api.POST("/api/forecast", { body: { dataset: dataset.id, document: { ...document }, draws }, signal })),
    staleTime: FOR_EVER,
    retry: false,
  });

/** What rows are chosen by that a pipeline does worst on. */
export type WorstBy = Schemas["WorstRequestRequest"]["by"];

/** Images on which a pipeline does worst, each with the variant that does it. */
export const askWorst = (dataset: Snapshot, document: PipelineDocument, by: WorstBy, count: number) =>
  queryOptions({
    queryKey: ["worst", ...snapshotKey(dataset), by, count, textOf(document)],
    queryFn: ({ signal }) => take(api.POST("/api/worst", { body: { dataset: dataset.id, document: { ...document }, by, count }, signal })),
    staleTime: FOR_EVER,
    retry: false,
  });

export const askAdvice = (dataset: Snapshot & Pick<Dataset, "marks">, document: PipelineDocument) =>
  queryOptions({
    queryKey: ["advice", ...snapshotKey(dataset), dataset.marks, textOf(document)],
    queryFn: ({ signal }) => take(api.POST("/api/advice", { body: { dataset: dataset.id, document: { ...document } }, signal })),
    staleTime: FOR_EVER,
    retry: false,
  });

// Editions

export type Order = Omit<Schemas["EstimateRequestRequest"], "dataset" | "document">;

export const askEstimate = (dataset: Snapshot, document: PipelineDocument, order: Order) =>
  queryOptions({
    queryKey: ["estimate", ...snapshotKey(dataset), textOf(document), order],
    queryFn: ({ signal }) =>
      take(api.POST("/api/editions/estimate", { body: { dataset: dataset.id, document: { ...document }, ...order }, signal })),
  });

export const askEditions = queryOptions({ queryKey: ["editions"], queryFn: () => take(api.GET("/api/editions")) });

export const askEdition = (id: number) =>
  queryOptions({ queryKey: ["edition", id], queryFn: () => take(api.GET("/api/editions/{id}", { params: { path: { id } } })) });

/** What names an edition's contents. */
export type Made = Pick<Edition, "id" | "output_digest">;

type RowsQuery = NonNullable<Parameters<typeof editionRows>[1]>;

const editionRows = (id: number, query: { source?: string; variant?: string; count: number }) =>
  take(api.GET("/api/editions/{id}/images", { params: { path: { id }, query } }));

/** Images of an edition that meet a question, with what can be filtered by. */
export const askEditionRows = ({ id, output_digest }: Made, query: RowsQuery) =>
  queryOptions({ queryKey: ["edition-rows", id, output_digest, query], queryFn: () => editionRows(id, query), staleTime: FOR_EVER });

export const editionImagesKey = ({ id, output_digest }: Made, filter: object) => ["edition-images", id, output_digest, filter];

export const askEditionsCompared = (one: number, two: number) =>
  queryOptions({
    queryKey: ["editions-compare", one, two],
    queryFn: () => take(api.GET("/api/editions/{id}/compare/{other}", { params: { path: { id: one, other: two } } })),
  });

export const askScores = (edition: number) =>
  queryOptions({
    queryKey: ["scores", edition],
    queryFn: () => take(api.GET("/api/editions/{id}/scores", { params: { path: { id: edition } } })),
  });

// Matches and probes

export const askInquiries = (kind: "match" | "probe", dataset?: number) =>
  queryOptions({
    queryKey: ["inquiries", kind, dataset ?? 0],
    queryFn: () => take(api.GET("/api/inquiries", { params: { query: { kind, ...(dataset ? { dataset } : {}) } } })),
  });

export const askInquiry = (id: number) =>
  queryOptions({ queryKey: ["inquiry", id], queryFn: () => take(api.GET("/api/inquiries/{id}", { params: { path: { id } } })) });

export const askTrials = queryOptions({ queryKey: ["trials"], queryFn: () => take(api.GET("/api/trials")) });

// People

export const askPeople = queryOptions({ queryKey: ["people"], queryFn: () => take(api.GET("/api/people")) });
export const askInvitations = queryOptions({ queryKey: ["invitations"], queryFn: () => take(api.GET("/api/invitations")) });
export const askTokens = queryOptions({ queryKey: ["tokens"], queryFn: () => take(api.GET("/api/tokens")) });
export const logKey = ["log"] as const;
