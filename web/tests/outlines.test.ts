import { describe, expect, test } from "vitest";
import type { LabelObject } from "../src/api/client";
import { byClass, objectAt, type Path, traceBones, traceBox, traceKeypoints, traceMask, tracePolygon } from "../src/picture/outlines";

const object = (given: Partial<LabelObject>) =>
  ({ image: "a", id: "1", class: "moth", box: [0, 0, 0, 0], keypoints: [], ...given }) as LabelObject;

/** What is traced, as words. */
function traced(trace: (path: Path) => void): string {
  const said: string[] = [];
  const say =
    (word: string) =>
    (...numbers: unknown[]) =>
      void said.push([word, ...numbers.slice(0, word === "arc" ? 3 : 4)].join(" "));
  trace({ moveTo: say("move"), lineTo: say("line"), closePath: say("close"), rect: say("rect"), arc: say("arc") } as Path);
  return said.join(", ");
}

describe("labels over a tile", () => {
  test("what is pointed at is the smallest of the boxes that hold the point", () => {
    const large = object({ id: "large", box: [0, 0, 100, 80] });
    const small = object({ id: "small", box: [20, 20, 40, 30] });
    for (const order of [
      [large, small],
      [small, large],
    ]) {
      expect(objectAt(order, 30, 25)?.id).toBe("small");
      expect(objectAt(order, 50, 50)?.id).toBe("large");
      expect(objectAt(order, 101, 50)).toBeNull();
    }
  });

  test("boxes of one class are drawn together", () => {
    const groups = byClass([object({ id: "1" }), object({ id: "2", class: "beetle" }), object({ id: "3", box: [1, 2, 4, 6] })]);
    expect(groups.map(([name, members]) => [name, members.map(({ id }) => id)])).toEqual([
      ["moth", ["1", "3"]],
      ["beetle", ["2"]],
    ]);
    expect(traced((path) => traceBox(path, object({ box: [1, 2, 4, 6] })))).toBe("rect 1 2 3 4");
  });

  test("an oriented box shows its front by a stroke inwards", () => {
    const oriented = [
      [0, 0],
      [10, 0],
      [10, 20],
      [0, 20],
    ] as LabelObject["oriented"];
    expect(traced((path) => traceBox(path, object({ oriented })))).toBe(
      "move 0 0, line 10 0, line 10 20, line 0 20, close, move 5 0, line 5 4",
    );
  });

  test("bones only join keypoints that are labelled; seen ones are dots, hidden ones rings", () => {
    const keypoints = [
      [1, 2, 2],
      [3, 4, 1],
      [0, 0, 0],
    ] as LabelObject["keypoints"];
    const lines = [
      [0, 1],
      [1, 2],
      [0, 9],
    ];
    expect(traced((path) => traceBones(path, object({ keypoints }), lines))).toBe("move 1 2, line 3 4");
    expect(traced((path) => traceKeypoints(path, object({ keypoints }), 2, 1))).toBe("move 2 2, arc 1 2 1");
    expect(traced((path) => traceKeypoints(path, object({ keypoints }), 1, 1))).toBe("move 4 4, arc 3 4 1");
  });

  test("a mask's bars cover its pixels and no others", () => {
    const bars = (counts: number[], every = 1) =>
      traced((path) => traceMask(path, { left: 10, top: 20, width: 3, height: 3, counts }, every));
    // Columns of three: 0 1 1 | 1 1 0 | 0 0 1
    expect(bars([1, 4, 3, 1])).toBe("rect 10 21 1 2, rect 11 20 1 2, rect 12 22 1 1");
    expect(bars([0, 9])).toBe("rect 10 20 1 3, rect 11 20 1 3, rect 12 20 1 3");
    expect(bars([9])).toBe("");
    expect(bars([1, 4, 3, 1], 2)).toBe("rect 10 21 2 2, rect 12 22 2 1");
  });

  test("a polygon's parts and holes are rings of one path", () => {
    const square = (at: number, side: number) => [
      [at, at],
      [at + side, at],
      [at + side, at + side],
    ];
    const parts = [{ outline: square(0, 9), holes: [square(2, 3)] }] as NonNullable<LabelObject["polygon"]>;
    expect(traced((path) => tracePolygon(path, parts))).toBe("move 0 0, line 9 0, line 9 9, close, move 2 2, line 5 2, line 5 5, close");
  });
});
