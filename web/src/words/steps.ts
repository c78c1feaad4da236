import type { Parameter, PipelineStep, StepFacts } from "../api/client";

const short = (value: number) => `${Number(value.toFixed(Math.abs(value) < 10 ? 2 : 1))}`;

/** A range the way people say it: “±12°”, “0 – 1.2 px”, “0.8 – 1.25 ×”. */
export function sayRange([low, high]: readonly [number, number], unit: string): string {
  const mark = unit === "degrees" ? "°" : unit === "×" ? "×" : unit === "px" ? " px" : "";
  if (low === high) return `${short(low)}${mark}`;
  if (low === -high) return `±${short(high)}${mark}`;
  return `${short(low)} – ${short(high)}${mark}`;
}

/** Whether a parameter matters for a step as it is set; what another that doesn't matter itself would have to be is left aside. */
export function matters(parameter: Parameter, step: PipelineStep, facts: StepFacts | undefined): boolean {
  return Object.entries(parameter.when ?? {}).every(([name, values]) => {
    const other = facts?.parameters.find((each) => each.name === name);
    if (other && !matters(other, step, facts)) return true;
    return values.includes(String(step[name] ?? other?.default));
  });
}

/** Parameters that are seldom wanted: a panel shows them under “more” until they are used. */
const RARE = new Set(["within", "centre_x_px", "centre_y_px", "per_frame", "x_px", "y_px"]);

/** The parameters that matter, in the order in which one thinks of them: how often, how much, the rest; and those seldom wanted. */
export function inOrderOfThought(facts: StepFacts, step: PipelineStep): { main: Parameter[]; rare: Parameter[] } {
  const mattering = facts.parameters.filter((parameter) => matters(parameter, step, facts));
  const isRare = ({ name, default: usual }: Parameter) =>
    RARE.has(name) && (step[name] === undefined || JSON.stringify(step[name]) === JSON.stringify(usual));
  const last = (name: string) => Number(name === "scope");
  const shown = mattering.filter((parameter) => parameter.name !== "probability" && !isRare(parameter));
  return {
    main: [
      ...mattering.filter((parameter) => parameter.name === "probability"),
      ...shown.toSorted((one, other) => last(one.name) - last(other.name)),
    ],
    rare: mattering.filter(isRare),
  };
}

/** One line under a stop: what the step does as it is set. */
export function sayStep(step: PipelineStep, facts: StepFacts | undefined): string {
  const span = (name: string) => step[name] as [number, number];
  switch (step.step) {
    case "rotate":
      return `${sayRange(span("degrees"), "degrees")}${step.frame === "keep" ? `, ${edgesWord(step.edges)}` : `, ${step.frame}`}`;
    case "resize":
      return ["longest", "shortest"].includes(String(step.fit))
        ? `${step.fit} ${step.width_px} px`
        : `${step.width_px}×${step.height_px} ${step.fit}`;
    case "color_jitter":
      return `light ${sayRange(span("brightness_factor"), "×")}`;
    case "junction": {
      const branches = step.branches as { weight: number; steps: PipelineStep[] }[];
      return branches.map((branch) => branch.steps.map((each) => sayName(each.step)).join("+") || "straight").join(" | ");
    }
    case "pad":
      return step.multiple_px ? `to × ${step.multiple_px} px` : `${step.width_px ?? "·"}×${step.height_px ?? "·"} px`;
    case "normalize":
      return step.mean ? "by hand" : "from the dataset";
    case "grayscale":
      return `${step.channels} channel${step.channels === 1 ? "" : "s"}`;
    case "crop":
      return step.mode === "around_object"
        ? "around an object"
        : step.mode === "window"
          ? `${step.width_px}×${step.height_px} px`
          : step.mode === "centre"
            ? `centre ${short(Number(step.fraction) * 100)} %`
            : `${sayRange(span("area_fraction").map((value) => value * 100) as [number, number], "")} % of area`;
  }
  const first = facts?.parameters.find(
    (parameter) => !["probability", "scope"].includes(parameter.name) && matters(parameter, step, facts),
  );
  if (!first) return "";
  const value = step[first.name];
  const said = Array.isArray(value) && first.control === "span" ? sayRange(value as [number, number], first.unit) : String(value);
  return step.within === "objects" ? `${said}, in objects` : said;
}

function edgesWord(edges: unknown): string {
  return { mirror: "mirrored", solid: "color", extend: "edge stretched", wrap: "wrapped" }[String(edges)] ?? String(edges);
}

/** “color_jitter” as people read it. */
export const sayName = (name: string) => name.replaceAll("_", " ");

/** What files call these, in the words of the screens; `varlen_pipeline` files keep their own. */
const PARAMETERS: Record<string, string> = { x_px: "x, px", y_px: "y, px", within: "apply to", beyond: "outside", scope: "applies to" };
const OPTIONS: Record<string, string> = { solid: "color", extend: "edge stretched", refuse: "error" };

/** One of a parameter's options as people read it. */
export const sayOption = (option: string) => OPTIONS[option] ?? option;

/** “brightness_factor” → “brightness”; the unit stands beside it. */
export function sayParameter(parameter: Parameter): string {
  if (PARAMETERS[parameter.name]) return PARAMETERS[parameter.name] as string;
  return parameter.name.replace(/_(degrees|px|factor|fraction|levels)$/, "").replaceAll("_", " ");
}
