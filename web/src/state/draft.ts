import { temporal } from "zundo";
import { create } from "zustand";
import type { PipelineDocument, PipelineStep, StepFacts } from "../api/client";

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

/** Take up a document from the server; not something to be undone. */
export function openDocument(document: PipelineDocument): void {
  useDraft.setState({ document });
  useDraft.temporal.getState().clear();
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
  const document = useDraft.getState().document;
  const taken = new Set(document?.steps.map((step) => step.id));
  let id = facts.step;
  for (let number = 2; taken.has(id); number++) id = `${facts.step}_${number}`;
  const values = Object.fromEntries(facts.parameters.map((parameter) => [parameter.name, parameter.default]));
  const step = { id, step: facts.step, enabled: true, ...values } as PipelineStep;
  useDraft.getState().change((current) => {
    const steps = [...current.steps];
    const resize = steps.findLastIndex((other) => other.step === "resize");
    const place = resize >= 0 && !LATE.includes(facts.purpose) ? resize : steps.length;
    steps.splice(place, 0, step);
    return { ...current, steps };
  });
  return id;
}
