import { QueryClient } from "@tanstack/react-query";
import { describe, expect, test, vi } from "vitest";
import type { PipelineDocument, Tile } from "../src/api/client";
import {
  askAdvice,
  askEditionRows,
  askEstimate,
  askForecast,
  askImage,
  askLedger,
  askOpenPipeline,
  askRows,
  askSheetRow,
  editionImagesKey,
  imagesKey,
  keepOf,
  openNext,
  refresh,
} from "../src/api/queries";
import { wishOf } from "../src/bench/sheet";
import { pictureOf } from "../src/picture/widths";

/** A server of its own: what was asked, and what it answers; it must be there before the client is made. */
const server = vi.hoisted(() => {
  const server = { asked: [] as string[], answers: {} as Record<string, unknown> };
  globalThis.Request = class extends Request {
    constructor(input: RequestInfo | URL, init?: RequestInit) {
      super(typeof input === "string" ? new URL(input, "http://localhost") : input, init);
    }
  };
  globalThis.fetch = async (input) => {
    const path = new URL((input as Request).url).pathname;
    server.asked.push(path);
    return Response.json(server.answers[path] ?? null, { status: path in server.answers ? 200 : 404 });
  };
  return server;
});

const view = { pick: "spread" as const, turn: 0, rows: 6, pins: [] };

describe("which images the sheet asks for", () => {
  test("pinned ones of this dataset, each once; where there are none, others instead of an empty sheet", () => {
    const pins = [
      { dataset: 1, image: 7, variant: 2 },
      { dataset: 1, image: 7, variant: 4 },
      { dataset: 2, image: 8, variant: 1 },
    ];
    const pinned = { ...view, pick: "pinned" as const, pins };
    expect(wishOf(1, pinned)).toEqual({ pick: "pinned", turn: 0, count: 6, pinned: "7" });
    expect(wishOf(3, pinned)).toEqual({ pick: "spread", turn: 0, count: 6, pinned: "" });
    expect(wishOf(1, { ...view, pins })).toEqual({ pick: "spread", turn: 0, count: 6, pinned: "" });
  });
});

test("the bench opens the pipeline chosen last, or the first where that is gone", async () => {
  const kept = new Map<string, string>();
  vi.stubGlobal("localStorage", {
    getItem: (name: string) => kept.get(name) ?? null,
    setItem: (name: string, value: string) => kept.set(name, value),
  });
  server.answers = {
    "/api/pipelines": [{ id: 1 }, { id: 3 }],
    "/api/pipelines/1": { pipeline: 1, number: 1 },
    "/api/pipelines/3": { pipeline: 3, number: 5 },
  };
  for (const [chosen, opened] of [
    [3, 3],
    [77, 1],
  ] as const) {
    openNext(chosen);
    expect(await new QueryClient().fetchQuery(askOpenPipeline)).toMatchObject({ pipeline: opened });
  }
});

test("a tile shows the picture it came with, unless that is too small", () => {
  vi.stubGlobal("window", { devicePixelRatio: 1 });
  const tile = { address: "/api/tiles/1/a/b/2/3", picture: "data:image/jpeg;base64,AAAA", picture_width: 240 } as Tile;
  expect(pictureOf(tile, 96)).toBe(tile.picture);
  expect(pictureOf(tile, 240)).toBe(tile.picture);
  expect(pictureOf(tile, 241)).toBe("/api/tiles/1/a/b/2/3/320.jpg");
  expect(pictureOf({ ...tile, picture: "" }, 96)).toBe("/api/tiles/1/a/b/2/3/160.jpg");
});

describe("keys", () => {
  const before = { id: 4, digest: "sha256:a", marks: {} };
  const after = { ...before, digest: "sha256:b" };
  const pipeline = {
    varlen_pipeline: 1,
    name: "p",
    seed: 1,
    draw_per: "image",
    labels: { box_fit: "corners" },
    steps: [],
  } as unknown as PipelineDocument;
  const wanted = { variants: 3, originals: true, total: 0, per_class: 0, balance: false };
  const asks: Record<string, (dataset: typeof before, document: PipelineDocument) => { queryKey: readonly unknown[] }> = {
    "a row of the sheet": (dataset, document) => askSheetRow(dataset, document, 7, 4, 240),
    "the ledger": (dataset, document) => askLedger(dataset, document, wanted),
    "a forecast": (dataset, document) => askForecast(dataset, document, 100),
    advice: (dataset, document) => askAdvice(dataset, document),
    "an estimate": (dataset, document) => askEstimate(dataset, document, { ...wanted, format: "coco", image: "jpeg", quality: 90 }),
  };

  test.each(Object.entries(asks))("%s is asked anew after an edit of the dataset and a change of the pipeline", (_, ask) => {
    const key = JSON.stringify(ask(before, pipeline).queryKey);
    expect(JSON.stringify(ask({ ...before }, { ...pipeline }).queryKey)).toBe(key);
    expect(JSON.stringify(ask(after, pipeline).queryKey)).not.toBe(key);
    expect(JSON.stringify(ask(before, { ...pipeline, seed: 2 }).queryKey)).not.toBe(key);
  });

  test("images of the sheet and of the wall are asked anew after an edit of the dataset", () => {
    const wish = { pick: "most" as const, count: 3 };
    expect(askRows(after, wish).queryKey).not.toEqual(askRows(before, wish).queryKey);
    expect(askRows(before, { ...wish, turn: 1 }).queryKey).not.toEqual(askRows(before, wish).queryKey);
    expect(askImage(after, 7).queryKey).not.toEqual(askImage(before, 7).queryKey);
    expect(imagesKey(after, {})).not.toEqual(imagesKey(before, {}));
    expect(imagesKey(before, { split: "test" })).not.toEqual(imagesKey(before, {}));
  });

  test("rows of an edition are those of its output digest", () => {
    const made = { id: 3, output_digest: "sha256:a" };
    const again = { ...made, output_digest: "sha256:b" };
    expect(askEditionRows(again, { count: 1 }).queryKey).not.toEqual(askEditionRows(made, { count: 1 }).queryKey);
    expect(editionImagesKey(again, {})).not.toEqual(editionImagesKey(made, {}));
  });

  test("an answer of the same dataset stands in for a newer one, never another dataset's", () => {
    const keep = keepOf(4);
    const answered = (dataset: number) => ({ queryKey: ["ledger", dataset] }) as unknown as Parameters<typeof keep>[1];
    expect(keep("old", answered(4) as never)).toBe("old");
    expect(keep("old", answered(5) as never)).toBeUndefined();
    expect(keep("old", undefined)).toBeUndefined();
  });

  test("refreshing asks anew for what begins so, and for one thing where its number is given", async () => {
    const client = new QueryClient();
    for (const key of [["edition", 1], ["edition", 2], ["editions"], ["scores", 1]]) client.setQueryData(key, "answer");
    await refresh(client, ["edition", 1], "scores");
    const stale = client.getQueryCache().findAll({ stale: true, predicate: (query) => query.state.isInvalidated });
    expect(stale.map((query) => JSON.stringify(query.queryKey)).sort()).toEqual(['["edition",1]', '["scores",1]']);
  });
});
