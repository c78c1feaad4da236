import { temporal } from "zundo";
import { create } from "zustand";
import type { Branch, PipelineDocument, PipelineStep, StepFacts } from "../api/client";

/** The pipeline being edited. Every change goes through here, so every change can be undone. */
interface Draft {
  document: PipelineDocument | null;
  change: (edit: (document: PipelineDocument) => PipelineDocument) => void;
}

export const useDraft = create<Draft>()(
  temporal(
    (set) => ({
      document: null,
      change: (edit) => set(({ document }) => (document ? { document: edit(document) } : {})),
    }),
    {
      partialize: ({ document }) => ({ document }),
      equality: (a, b) => a.document === b.document,
      limit: 200,
    },
  ),
);

const KEPT = "varlen-undo";
const KEPT_STATES = 40;

/** What outlives a reload of the page: the steps back and forth, and the pipeline itself as long as the server has not got it. */
interface Kept {
  /** The revision that all of this stands on. */
  name: string;
  past: PipelineDocument[];
  future: PipelineDocument[];
  unsaved: PipelineDocument | null;
}

/**
 * Take up a document from the server, with what was kept of this revision: unsaved changes, and what could be undone and done again.
 * Says whether unsaved changes stand on another revision of the pipeline: then these are taken up, and someone has to choose.
 */
export function openDocument(document: PipelineDocument, name = ""): boolean {
  const kept = keptBefore();
  // A save that was under way when the page went away may have arrived.
  const arrived = kept?.unsaved && ownerOf(kept.name) === ownerOf(name) && sorted(kept.unsaved) === sorted(document);
  const mine = arrived ? { ...kept, unsaved: null } : kept?.name === name ? kept : null;
  const stranded = mine === null && kept?.unsaved && ownerOf(kept.name) === ownerOf(name) ? kept.unsaved : null;
  useDraft.setState({ document: stranded ?? mine?.unsaved ?? document });
  useDraft.temporal.getState().clear();
  if (mine) {
    const states = (documents: PipelineDocument[]) => documents.map((each) => ({ document: each }));
    useDraft.temporal.setState({ pastStates: states(mine.past), futureStates: states(mine.future) });
  }
  return stranded !== null;
}

/** A document as text in which the order of names does not matter. */
function sorted(document: PipelineDocument): string {
  return JSON.stringify(document, (_, value) =>
    value && typeof value === "object" && !Array.isArray(value) ? Object.fromEntries(Object.entries(value).sort()) : value,
  );
}

/** Whether the pipeline was like this before, as far as it can be undone. */
export function wentThrough(document: PipelineDocument): boolean {
  const wanted = sorted(document);
  return useDraft.temporal.getState().pastStates.some((state) => state.document && sorted(state.document) === wanted);
}

/** The pipeline that a revision's name begins with. */
const ownerOf = (name: string) => name.split("/")[0];

/** Keep nothing for the next load: someone else's changes were chosen instead. */
export function dropDraft(): void {
  sessionStorage.removeItem(KEPT);
}

/** Keep for the next load of the page what can be undone, and the pipeline itself while it is `unsaved`; `name` is the revision it stands on. */
export function keepDraft(name: string, unsaved: boolean): void {
  const { pastStates, futureStates } = useDraft.temporal.getState();
  const documents = (states: { document?: PipelineDocument | null }[]) =>
    states.slice(-KEPT_STATES).flatMap((state) => state.document ?? []);
  const kept: Kept = {
    name,
    past: documents(pastStates),
    future: documents(futureStates),
    unsaved: unsaved ? useDraft.getState().document : null,
  };
  try {
    sessionStorage.setItem(KEPT, JSON.stringify(kept));
  } catch {
    sessionStorage.removeItem(KEPT); // no room: then it can't be undone after a reload
  }
}

function keptBefore(): Kept | null {
  try {
    return JSON.parse(sessionStorage.getItem(KEPT) ?? "null");
  } catch {
    return null;
  }
}

export const undo = () => useDraft.temporal.getState().undo();
export const redo = () => useDraft.temporal.getState().redo();

export function changeStep(id: string, values: Record<string, unknown>): void {
  useDraft.getState().change((document) => ({
    ...document,
    steps: document.steps.map((step) => (step.id === id ? ({ ...step, ...values } as PipelineStep) : step)),
  }));
}

export function removeStep(id: string): void {
  useDraft.getState().change((document) => ({ ...document, steps: document.steps.filter((step) => step.id !== id) }));
}

/** A copy of a step right after it, under an id of its own. Returns the id. */
export function duplicateStep(id: string): string {
  const document = useDraft.getState().document;
  const place = document?.steps.findIndex((step) => step.id === id) ?? -1;
  const step = document?.steps[place];
  if (!document || !step) return id;
  const taken = new Set(idsOf(document.steps));
  const copied = (old: PipelineStep): PipelineStep => ({
    ...structuredClone(old),
    id: freshId(old.id, taken, old.id.replace(/-\d+$/, "")),
    ...(old.branches ? { branches: (old.branches as Branch[]).map((branch) => ({ ...branch, steps: branch.steps.map(copied) })) } : {}),
  });
  const copy = copied(step);
  useDraft.getState().change((current) => ({ ...current, steps: current.steps.toSpliced(place + 1, 0, copy) }));
  return copy.id;
}

/** Put the step at `from` to the place `to`. */
export function moveStep(from: number, to: number): void {
  useDraft.getState().change((document) => {
    const steps = [...document.steps];
    const [step] = steps.splice(from, 1);
    if (!step || to < 0 || to > steps.length) return document;
    steps.splice(to, 0, step);
    return { ...document, steps };
  });
}

/** Steps that belong after the picture has its final size. */
const LATE = ["texture", "fit"];

/** Add a step with its defaults: before the last resize, unless it is one for the finished size. Returns its id. */
export function addStep(facts: StepFacts): string {
  const step = newStep(facts);
  useDraft.getState().change((current) => {
    const steps = [...current.steps];
    const resize = steps.findLastIndex((other) => other.step === "resize");
    const place = resize >= 0 && !LATE.includes(facts.purpose) ? resize : steps.length;
    steps.splice(place, 0, step);
    return { ...current, steps };
  });
  return step.id;
}

/** A step with its defaults and an id that no other step of the pipeline has, not yet in it. */
export function newStep(facts: StepFacts): PipelineStep {
  const taken = new Set(idsOf(useDraft.getState().document?.steps ?? []));
  const id = freshId(facts.step, taken);
  const values = Object.fromEntries(facts.parameters.map((parameter) => [parameter.name, parameter.default]));
  return { id, step: facts.step, enabled: true, ...values } as PipelineStep;
}

/** The first of name, name-2, name-3 … that is not taken, as the core names steps; it is taken from then on. */
function freshId(name: string, taken: Set<string>, stem = name): string {
  let made = name;
  for (let number = 2; taken.has(made); number++) made = `${stem}-${number}`;
  taken.add(made);
  return made;
}

/** The ids of steps and of those in the branches below them. */
function idsOf(steps: PipelineStep[]): string[] {
  return steps.flatMap((step) => [step.id, ...((step.branches ?? []) as Branch[]).flatMap((branch) => idsOf(branch.steps))]);
}
