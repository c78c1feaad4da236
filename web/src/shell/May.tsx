import type { ReactNode } from "react";
import { may } from "../state/session";

/** What is offered only to those who may do it. */
export function May({ to, children }: { to: keyof typeof may; children: ReactNode }) {
  return may[to] ? children : null;
}
