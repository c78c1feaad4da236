import type { Schemas } from "../api/client";
import { sayName } from "./steps";

type Difference = Schemas["Difference"];

/** A difference in a few words: “rotate changed”. */
export function sayChange(change: Difference): string {
  return change.kind === "pipeline" || change.kind === "moved"
    ? (change.lines[0] ?? change.kind)
    : `${sayName(change.name)} ${change.kind}`;
}
