import { expect, test } from "vitest";
import { type RevisionLine, sessionsOf } from "../src/pipelines/Pipelines";

const revision = (number: number, minute: number, name = "") =>
  ({ id: number, number, name, created: new Date(2026, 10, 23, 20, minute).toISOString(), changes: [] }) as unknown as RevisionLine;
const shape = (revisions: RevisionLine[]) =>
  sessionsOf(revisions).map(({ last, before }) => [last.number, ...before.map((each) => each.number)]);

test("changes without a longer pause between them are one sitting", () => {
  expect(shape([revision(6, 50), revision(5, 30), revision(4, 22), revision(3, 14), revision(2, 1), revision(1, 0)])).toEqual([
    [6],
    [5, 4, 3],
    [2],
    [1],
  ]);
});

test("a named revision and the first one stand by themselves, or lead what came before them", () => {
  expect(shape([revision(4, 4), revision(3, 3, "before the rain"), revision(2, 2), revision(1, 1)])).toEqual([[4], [3, 2], [1]]);
  expect(shape([])).toEqual([]);
});
