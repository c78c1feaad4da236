import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { PipelineDocument, Tile } from "../src/api/client";
import type { LooksWish } from "../src/api/looks";
import type { Snapshot } from "../src/api/queries";
import { type Look, TileFeed, type TilesWish } from "../src/picture/tile-feed";

const dataset = { id: 1, digest: "sha256:night" } as Snapshot;
const documentOf = (seed: number) => ({ varlen_pipeline: 1, seed, steps: [] }) as unknown as PipelineDocument;

/** Six rows of one tile: two in sight, one near. */
const KEYS = ["a", "b", "c", "d", "e", "f"];
const wishOf = (first: number, change: Partial<TilesWish> = {}): TilesWish => ({
  dataset,
  documents: [documentOf(1)],
  spots: KEYS.map((key, place) => ({ key, document: 0, image: place, variant: 1 })),
  sight: new Set(KEYS.slice(first, first + 2)),
  near: new Set(KEYS.slice(first, first + 3)),
  passing: false,
  width: 160,
  ...change,
});

/** One stream that was asked for: what of, and how its answer goes on. */
interface Asked {
  images: number[];
  exact: boolean;
  seed: number;
  aborted: boolean;
  quick: () => Promise<void>;
  end: () => Promise<void>;
}

let asked: Asked[] = [];

function frame(head: object, picture: number[]): Uint8Array {
  const text = new TextEncoder().encode(JSON.stringify(head));
  const bytes = new Uint8Array(8 + text.length + picture.length);
  const lengths = new DataView(bytes.buffer);
  lengths.setUint32(0, text.length, true);
  lengths.setUint32(4, picture.length, true);
  bytes.set(text, 8);
  bytes.set(picture, 8 + text.length);
  return bytes;
}

const rest = () => vi.advanceTimersByTimeAsync(80);

function serve(_address: string, { body, signal }: { body: string; signal: AbortSignal }): Promise<Response> {
  const wish: LooksWish = JSON.parse(body);
  let to: ReadableStreamDefaultController<Uint8Array> | null = null;
  const answer = new ReadableStream<Uint8Array>({
    start: (controller) => {
      to = controller;
    },
  });
  const each = (head: object) => wish.tiles.forEach((_, place) => void to?.enqueue(frame({ place, ...head }, [])));
  const one: Asked = {
    images: wish.tiles.map(([, image]) => image),
    exact: wish.exact,
    seed: Number(wish.documents[0]?.seed),
    aborted: false,
    quick: async () => {
      each({ exact: false, tile: { address: "tile" } as Tile });
      await rest();
    },
    end: async () => {
      if (wish.exact) each({ exact: true });
      to?.close();
      await rest();
    },
  };
  signal.addEventListener("abort", () => {
    one.aborted = true;
    to?.error(new DOMException("broken off", "AbortError"));
  });
  asked.push(one);
  return Promise.resolve(new Response(answer));
}

const latest = () => asked.at(-1) as Asked;

beforeEach(() => {
  vi.useFakeTimers();
  asked = [];
  vi.stubGlobal("window", globalThis);
  vi.stubGlobal("requestAnimationFrame", (done: () => void) => setTimeout(done, 16));
  vi.stubGlobal("fetch", serve);
});

afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

test("what is in sight comes first, its neighbours after it, and quick looks of the others at last", async () => {
  const feed = new TileFeed();
  feed.ask(wishOf(0));
  await latest().quick();
  await latest().end();
  await latest().quick();
  await latest().end();
  expect(asked.map(({ images, exact }) => [images, exact])).toEqual([
    [[0, 1], true],
    [[2], true],
    [[3, 4, 5], false],
  ]);
  expect(feed.snapshot().exact).toBe(true);
});

test("a change breaks off what is under way, and nothing of it is shown", async () => {
  const feed = new TileFeed();
  const shown: string[] = [];
  feed.attach("a", {
    show: (look: Look, _picture, made) => shown.push(look.made === made ? "fresh" : "old"),
    expect: () => {},
    dim: () => {},
  });
  feed.ask(wishOf(0));
  feed.follow(documentOf(2));
  expect(asked.map(({ seed, aborted }) => [seed, aborted])).toEqual([
    [1, true],
    [2, false],
  ]);
  await latest().quick();
  expect(shown).toEqual(["fresh"]);
});

test("while tiles pass by quick looks will do; what comes to rest becomes exact", async () => {
  const feed = new TileFeed();
  feed.ask(wishOf(0));
  const [first] = asked as [Asked];
  await first.quick();
  feed.ask(wishOf(2, { passing: true }));
  expect(first.aborted).toBe(true); // only exact pictures were left, of rows that are gone
  expect([latest().images, latest().exact]).toEqual([[2, 3], false]);
  await latest().quick();
  await latest().end();
  expect([latest().images, latest().exact]).toEqual([[4], false]);
  feed.ask(wishOf(2));
  expect([latest().images, latest().exact]).toEqual([[2, 3], true]);
  await latest().quick();
  await latest().end();
  expect(feed.snapshot().exact).toBe(true);
});

test("rows that come in sight are not kept waiting by those that are not", async () => {
  const feed = new TileFeed();
  feed.ask(wishOf(0));
  await latest().quick();
  await latest().end();
  const background = latest();
  expect(background.images).toEqual([2]);
  feed.ask(wishOf(3));
  expect(background.aborted).toBe(true);
  expect(latest().images).toEqual([3, 4]);
});
