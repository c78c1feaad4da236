import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

export type Schemas = components["schemas"];
export type Dataset = Schemas["Dataset"];
export type ImageRow = Schemas["Image"];
export type LabelObject = Schemas["Object"] & { class: string };
export type Finding = Schemas["Finding"];
export type Findings = Schemas["Findings"];
export type Tile = Schemas["Tile"];
export type Sheet = Schemas["Sheet"];
export type Ledger = Schemas["Ledger"];
export type StepFacts = Schemas["Step"];
export type Parameter = Schemas["Parameter"];
export type Edition = Required<Schemas["Edition"]>;
export type EditionRow = Schemas["EditionRow"];
export type Score = Required<Schemas["Score"]>;
export type Revision = Schemas["Revision"];
export type Trace = Schemas["Trace"];

/** A step as it stands in a pipeline document: common keys and its own parameters. */
export interface PipelineStep {
  id: string;
  step: string;
  probability: number;
  scope: "train" | "every";
  enabled: boolean;
  [parameter: string]: unknown;
}

/** One way a junction may take. */
export interface Branch {
  weight: number;
  steps: PipelineStep[];
}

/** A pipeline in canonical form. */
export interface PipelineDocument {
  varlen_pipeline: 1;
  name: string;
  seed: number;
  draw_per: string;
  labels: { box_fit: string; keep_share: number; keep_side_px: number };
  steps: PipelineStep[];
}

export const api = createClient<paths>({ baseUrl: "" });

/** What the server says when something can't be done; `problems` holds one line each. */
export class Refusal extends Error {
  constructor(
    message: string,
    readonly problems: string[],
    readonly status: number,
  ) {
    super(message);
  }
}

/** Whether a refusal says that there is no such thing. */
export const isMissing = (error: unknown): boolean => error instanceof Refusal && error.status === 404;

/** A session that has ended elsewhere: the page comes again, and asks to sign in. */
function askToSignIn(): void {
  const said = globalThis.document?.querySelector('meta[name="varlen-session"]')?.getAttribute("content") ?? "";
  if (/"role":"\w/.test(said)) location.reload();
}

/** The data of an answer, or its refusal thrown. */
export async function take<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer.catch(() => {
    throw new Refusal("The server does not answer. Is it still running?", [], 0);
  });
  if (data !== undefined || (response.ok && error === undefined)) return data as T;
  if (response.status === 401) askToSignIn();
  const said = error as { message?: string; problems?: string[] } | undefined;
  throw new Refusal(said?.message ?? `The server answered with an error (${response.status}).`, said?.problems ?? [], response.status);
}

/** What lies at an address that the server named. Throws as `take` does. */
export const takeAt = <T>(address: string, signal?: AbortSignal): Promise<T> => take<T>(answerAt<T>(address, signal));

async function answerAt<T>(address: string, signal?: AbortSignal): Promise<{ data?: T; error?: unknown; response: Response }> {
  const response = await fetch(address, signal ? { signal } : {});
  const said: unknown = await response.json().catch(() => undefined);
  return response.ok ? { data: said as T, response } : { error: said, response };
}
