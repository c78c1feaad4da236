import { describe, expect, test } from "vitest";
import type { PipelineDocument, Sheet } from "../src/api/client";
import { rowAsker } from "../src/bench/asking";

const question = { dataset: 1, document: { name: "a" } as PipelineDocument, variants: 4 };
const quiet = new AbortController().signal;

/** A server that notes what it was asked and answers when told to. */
function server() {
  const asked: { images: number[]; signal: AbortSignal; answer: (sheet: Partial<Sheet>) => void; refuse: (reason: Error) => void }[] = [];
  const ask = rowAsker(
    (_, images, signal) =>
      new Promise((resolve, reject) => asked.push({ images, signal, answer: (sheet) => resolve(sheet as Sheet), refuse: reject })),
  );
  return { asked, ask };
}

const rowsOf = (...images: number[]) => ({ rows: images.map((image) => ({ image, tiles: [] })), runs: [] });

describe("rows of a sheet", () => {
  test("wished for in one breath are asked for three at a time, and each gets its own", async () => {
    const { asked, ask } = server();
    const rows = [7, 8, 9, 10].map((image) => ask(question, image, quiet));
    const other = ask({ ...question, variants: 5 }, 7, quiet);
    await Promise.resolve();
    expect(asked.map((each) => each.images)).toEqual([[7, 8, 9], [10], [7]]);
    asked[0]?.answer(rowsOf(9, 8, 7));
    asked[1]?.answer(rowsOf(10));
    asked[2]?.answer(rowsOf(7));
    expect((await Promise.all(rows)).map((row) => row.image)).toEqual([7, 8, 9, 10]);
    expect((await other).image).toBe(7);
  });

  test("a request is given up when nobody waits for any of its rows, not before", async () => {
    const { asked, ask } = server();
    const [one, two] = [new AbortController(), new AbortController()];
    const rows = [ask(question, 1, one.signal), ask(question, 2, two.signal)];
    await Promise.resolve();
    one.abort();
    expect(asked[0]?.signal.aborted).toBe(false);
    two.abort();
    expect(asked[0]?.signal.aborted).toBe(true);
    asked[0]?.refuse(new Error("given up"));
    expect((await Promise.allSettled(rows)).map((row) => row.status)).toEqual(["rejected", "rejected"]);
  });

  test("one that was given up before it was sent is not asked for", async () => {
    const { asked, ask } = server();
    const gone = new AbortController();
    void ask(question, 1, gone.signal);
    gone.abort();
    const kept = ask(question, 2, quiet);
    await Promise.resolve();
    expect(asked.map((each) => each.images)).toEqual([[2]]);
    asked[0]?.refuse(new Error("no such pipeline"));
    await expect(kept).rejects.toThrow("no such pipeline");
  });
});
