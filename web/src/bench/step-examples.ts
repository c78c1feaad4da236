import type { PipelineStep, StepFacts } from "../api/client";

/** A step as it shows best what it does: it happens, and its first range is at the end that changes most. */
export function exampleOf(facts: StepFacts): PipelineStep {
  const range = facts.parameters.find((parameter) => parameter.control === "span" && Array.isArray(parameter.default));
  const [low = 0, high = 0] = (range?.default as number[] | undefined) ?? [];
  const strong = strongest(low, high, range?.log ?? false);
  return {
    step: facts.step,
    id: "example",
    probability: 1,
    scope: "train",
    ...(range ? { [range.name]: [strong, strong] } : {}),
  } as PipelineStep;
}

/** The end that is farther from no change: from 1 for factors, from 0 for all else. */
function strongest(low: number, high: number, factor: boolean): number {
  const away = (value: number) => (factor ? Math.abs(Math.log(Math.max(value, 1e-9))) : Math.abs(value));
  return away(high) >= away(low) ? high : low;
}
