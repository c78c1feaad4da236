import { describe, expect, test } from "vitest";
import type { LabelObject } from "../src/api/client";
import { bonesOf, boxesOf, byClass, dotsOf, keysOf, maskOf, objectAt, polygonOf, ringsOf } from "../src/picture/outlines";

const object = (given: Partial<LabelObject>) =>
  ({ image: "a", id: "1", class: "moth", box: [0, 0, 0, 0], keypoints: [], ...given }) as LabelObject;

describe("labels over a tile", () => {
  test("an object keeps its key while others come and go; twins have keys of their own", () => {
    const before = keysOf([object({ image: "a", id: "1" }), object({ image: "b", id: "2" }), object({ image: "b", id: "2" })]);
    const after = keysOf([object({ image: "b", id: "2" }), object({ image: "b", id: "2" })]);
    expect(new Set(before).size).toBe(3);
    expect(after).toEqual(before.slice(1));
  });

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

  test("boxes of one class are one path", () => {
    const groups = byClass([object({ id: "1" }), object({ id: "2", class: "beetle" }), object({ id: "3", box: [1, 2, 4, 6] })]);
    expect(groups.map(([name, members]) => [name, members.map(({ id }) => id)])).toEqual([
      ["moth", ["1", "3"]],
      ["beetle", ["2"]],
    ]);
    expect(boxesOf(groups[0]?.[1].slice(1) ?? [])).toBe("M1 2H4V6H1Z");
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
    expect(bonesOf([object({ keypoints })], lines)).toBe("M1 2L3 4");
    expect(dotsOf([object({ keypoints })])).toBe("M1 2h0");
    expect(ringsOf([object({ keypoints })], 1)).toBe("M2 4a1 1 0 1 0 2 0a1 1 0 1 0 -2 0");
  });

  test("a mask's bars cover its pixels and no others", () => {
    const bars = (counts: number[], height: number) =>
      [...maskOf({ left: 10, top: 20, width: 3, height, counts }).matchAll(/M(\d+) (\d+)h1v(\d+)h-1z/g)].map(([, ...parts]) =>
        parts.map(Number),
      );
    // Columns of three: 0 1 1 | 1 1 0 | 0 0 1
    expect(bars([1, 4, 3, 1], 3)).toEqual([
      [10, 21, 2],
      [11, 20, 2],
      [12, 22, 1],
    ]);
    expect(bars([0, 9], 3)).toEqual([
      [10, 20, 3],
      [11, 20, 3],
      [12, 20, 3],
    ]);
    expect(bars([9], 3)).toEqual([]);
    expect(maskOf({ left: 10, top: 20, width: 3, height: 3, counts: [1, 4, 3, 1] }, 2)).toBe("M10 21h2v2h-2zM12 22h2v1h-2z");
  });

  test("a polygon's parts and holes are rings of one path", () => {
    const square = (at: number, side: number) => [
      [at, at],
      [at + side, at],
      [at + side, at + side],
    ];
    expect(polygonOf([{ outline: square(0, 9), holes: [square(2, 3)] }] as NonNullable<LabelObject["polygon"]>)).toBe(
      "M0 0L9 0L9 9ZM2 2L5 2L5 5Z",
    );
  });
});
