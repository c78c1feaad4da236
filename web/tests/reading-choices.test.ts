import { expect, test } from "vitest";
import type { Recognised } from "../src/datasets/imports";
import { AS_RECOGNISED, classesOf, optionsOf, pairsIn } from "../src/datasets/reading-choices";

const found = {
  format: "coco",
  levels: "",
  classes: [
    { name: "ash veil", labels: 7 },
    { name: "marsh lantern", labels: 2 },
  ],
} as Partial<Recognised> as Recognised;

test("what was recognised is asked for where nothing was chosen", () => {
  expect(optionsOf(found, AS_RECOGNISED)).toEqual({
    form: "coco",
    exif: "upright",
    splits: "files",
    shares: [0.1, 0.1],
    seed: 0,
    stratify: true,
    groups: "",
    mask_class: "",
    levels: "",
    mirror_classes: [],
  });
});

test("choices reach the server in its own form", () => {
  const [first, second] = classesOf(found, AS_RECOGNISED);
  const choices = {
    ...AS_RECOGNISED,
    groups: "name",
    pattern: "night{group}_#",
    pairs: "left wing : right wing, alone,",
    tile: { side: 512, overlap: 64 },
    classes: [
      { ...(second as typeof first & object), to: " lantern " },
      { ...(first as typeof second & object), to: "" },
    ],
  };
  expect(optionsOf(found, choices)).toMatchObject({
    groups: "name:night{group}_#",
    mirror_pairs: [["left wing", "right wing"]],
    tile: [512, 512],
    overlap: 64,
    classes: [
      ["marsh lantern", "lantern"],
      ["ash veil", ""],
    ],
  });
});

test("pairs are read as they are typed", () => {
  expect(pairsIn("")).toEqual([]);
  expect(pairsIn("a:b,c:d")).toEqual([
    ["a", "b"],
    ["c", "d"],
  ]);
  expect(pairsIn("a:b:c, :x")).toEqual([]);
});
