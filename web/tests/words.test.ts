import { describe, expect, test, vi } from "vitest";
import type { Parameter, PipelineStep } from "../src/api/client";
import { pictureWidth } from "../src/picture/widths";
import { counted, inOrder, percent, sayBytes, sayChange, sayCounts, saySeconds, saySplit, sentence, toldApart } from "../src/words/figures";
import { matters, sayParameter, sayRange, sayStep } from "../src/words/steps";

const step = (name: string, more: object) => ({ id: "a", step: name, ...more }) as unknown as PipelineStep;

test.each([
  [[-12, 12], "degrees", "±12°"],
  [[0, 1.2], "px", "0 – 1.2 px"],
  [[0.8, 1.25], "×", "0.8 – 1.25×"],
  [[3, 3], "", "3"],
] as [[number, number], string, string][])("%j in %s is %s", (range, unit, said) => {
  expect(sayRange(range, unit)).toBe(said);
});

test.each([
  [step("rotate", { degrees: [-12, 12], frame: "keep", edges: "mirror" }), "±12°, mirrored"],
  [step("resize", { width_px: 640, height_px: 480, fit: "cover" }), "640×480 cover"],
  [step("resize", { width_px: 640, height_px: 480, fit: "longest" }), "longest 640 px"],
  [step("crop", { mode: "random", area_fraction: [0.5, 1] }), "50 – 100 % of area"],
  [
    step("junction", {
      branches: [
        { weight: 1, steps: [] },
        { weight: 1, steps: [step("motion_blur", {})] },
      ],
    }),
    "straight | motion blur",
  ],
])("a stop says what it does", (each, said) => {
  expect(sayStep(each, undefined)).toBe(said);
});

test("a parameter matters only while another has one of its values", () => {
  const parameter = { name: "edge_color", when: { edges: ["solid"] } } as unknown as Parameter;
  expect(matters(parameter, step("rotate", { edges: "solid" }), undefined)).toBe(true);
  expect(matters(parameter, step("rotate", { edges: "wrap" }), undefined)).toBe(false);
  expect(sayParameter({ name: "brightness_factor" } as Parameter)).toBe("brightness");
});

describe("figures", () => {
  test("splits come in their usual order, strange ones last", () => {
    expect(inOrder({ odd: 1, test: 2, train: 3, validation: 4 }).map(([name]) => name)).toEqual(["train", "validation", "test", "odd"]);
    expect(sayCounts({ test: 1, train: 24 })).toBe("24 training + 1 test");
  });

  test.each([
    [12, "1 kB"],
    [7_100_000, "7.1 MB"],
    [81_300_000_000, "81.3 GB"],
  ])("%i bytes", (bytes, said) => expect(sayBytes(bytes)).toBe(said));

  test.each([
    [0.2, "1 s"],
    [89, "89 s"],
    [600, "10 min"],
    [9000, "2.5 h"],
  ])("%d seconds", (seconds, said) => expect(saySeconds(seconds)).toBe(said));
});

test("a tile's picture is never less sharp than the screen", () => {
  vi.stubGlobal("window", { devicePixelRatio: 1 });
  expect(pictureWidth(96)).toBe(160);
  expect(pictureWidth(161)).toBe(240);
  expect(pictureWidth(5000)).toBe(1920);
  vi.stubGlobal("window", { devicePixelRatio: 3 });
  expect(pictureWidth(176)).toBe(480);
});

test.each([
  [0, "0 images"],
  [1, "1 image"],
  [2, "2 images"],
])("%i with its noun", (count, said) => expect(counted(count, "image")).toBe(said));

test("nouns whose plural is their own", () => {
  expect(counted(1, "pass", "passes")).toBe("1 pass");
  expect(counted(3, "pass", "passes")).toBe("3 passes");
  expect(counted(2, "file is", "files are")).toBe("2 files are");
});

test("phrases, shares and splits", () => {
  expect(sentence("each pixel's level is its class")).toBe("Each pixel's level is its class.");
  expect(sentence("")).toBe("");
  expect(percent(0.1234)).toBe("12.3 %");
  expect(percent(0.5, 0)).toBe("50 %");
  expect(saySplit("train")).toBe("training");
  expect(saySplit("night")).toBe("night");
});

test.each([
  [{ kind: "changed", name: "color_jitter", lines: ["hue 1 → 2"] }, "color jitter changed"],
  [{ kind: "added", name: "blur", lines: [] }, "blur added"],
  [{ kind: "moved", name: "order", lines: ["blur → flip"] }, "blur → flip"],
  [{ kind: "pipeline", name: "pipeline", lines: ["seed 1 → 2"] }, "seed 1 → 2"],
])("a difference in a few words", (change, said) =>
  expect(sayChange({ step: "a", ...change } as Parameters<typeof sayChange>[0])).toBe(said),
);

test("things of one name are told apart by who made them and when, then by number", () => {
  const at = "2026-12-01T21:04:05Z";
  const things = [
    { id: 1, name: "Moths", created: at, made_by: "luna" },
    { id: 2, name: "Moths", created: at, made_by: "ada" },
    { id: 3, name: "Moths", created: at, made_by: "ada" },
    { id: 4, name: "Lamps", created: at },
  ];
  expect([...toldApart(things).values()]).toEqual([
    "Moths (luna, 2026-12-01 21:04)",
    "Moths (ada, 2026-12-01 21:04), number 2",
    "Moths (ada, 2026-12-01 21:04), number 3",
    "Lamps",
  ]);
});
