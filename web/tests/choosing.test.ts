import { describe, expect, test } from "vitest";
import catalogue from "../../core/varlen/steps/catalogue.json";
import practitioners from "../../tests/core/steps/words.json";
import type { StepFacts } from "../src/api/client";
import { bestOf, exampleOf, grouped, walked } from "../src/bench/StepChoices";
import { fittingWidth, NARROWEST, WIDEST } from "../src/bench/sheet";

describe("tiles that fill the sheet", () => {
  test("an original and its variants take the whole width, and no more", () => {
    for (const [room, variants] of [
      [700, 4],
      [972, 4],
      [1612, 6],
    ] as const) {
      const width = fittingWidth(room, variants);
      const taken = 32 + 13 + 12 + 12 * variants + (variants + 1) * width;
      expect(taken).toBeLessThanOrEqual(room);
      expect(taken).toBeGreaterThan(room - variants - 1);
    }
  });
  test("within what can be chosen", () => {
    expect(fittingWidth(300, 12)).toBe(NARROWEST);
    expect(fittingWidth(4000, 1)).toBe(WIDEST);
  });
});

describe("walking among steps", () => {
  const groups: [string, unknown[]][] = [
    ["move", [1, 2, 3, 4, 5, 6, 7]],
    ["light", [8, 9]],
  ];
  test("sideways through all, up and down by lines, never out", () => {
    expect(walked(groups, 0, "ArrowLeft")).toBe(0);
    expect(walked(groups, 6, "ArrowRight")).toBe(7);
    expect(walked(groups, 8, "ArrowRight")).toBe(8);
    expect(walked(groups, 1, "ArrowDown")).toBe(6);
    expect(walked(groups, 4, "ArrowDown")).toBe(6);
    expect(walked(groups, 6, "ArrowDown")).toBe(8);
    expect(walked(groups, 8, "ArrowUp")).toBe(6);
    expect(walked(groups, 3, "ArrowUp")).toBe(3);
    expect(walked(groups, 0, "x")).toBeNull();
  });
});

describe("a step as an example", () => {
  const facts = (parameters: unknown[]) => ({ step: "rotate", parameters }) as unknown as StepFacts;
  test("happens, with its first range at the end that changes most", () => {
    const degrees = { name: "degrees", control: "span", default: [-10, 10] };
    const factor = { name: "factor", control: "span", log: true, default: [0.5, 1.2] };
    expect(exampleOf(facts([degrees]))).toMatchObject({ step: "rotate", probability: 1, scope: "train", degrees: [10, 10] });
    expect(exampleOf(facts([factor]))).toMatchObject({ factor: [0.5, 0.5] });
    expect(exampleOf(facts([{ name: "mode", control: "option", default: "a" }]))).not.toHaveProperty("mode");
  });
});

describe("practitioners' words", () => {
  const all = catalogue as unknown as StepFacts[];
  test.each(Object.entries(practitioners))("%s finds %s", (word, step) => {
    const found = grouped(all, word).flatMap(([, steps]) => steps);
    expect(found.map((facts) => facts.step)).toContain(step);
  });
  test("the step that a word names outright is the one that Enter adds", () => {
    const found = grouped(all, "hue").flatMap(([, steps]) => steps);
    expect(found.length).toBeGreaterThan(1);
    expect(found[bestOf(found, "hue")]?.step).toBe("hue");
    const blurred = grouped(all, "Gaussian-blur").flatMap(([, steps]) => steps);
    expect(blurred.map((facts) => facts.step)).toEqual(["blur"]);
  });
});
