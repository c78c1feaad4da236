import "./steps.css";
import { Dialog, Input, Portal, Text } from "@chakra-ui/react";
import { type KeyboardEvent, useEffect, useMemo, useRef, useState } from "react";
import type { Dataset, ImageRow, PipelineStep, StepFacts } from "../api/client";
import { streamLooks } from "../api/looks";
import { useDraft } from "../state/draft";
import { sayName } from "../words/steps";

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

/** Headings, in the order in which they stand. */
const PURPOSES: Record<string, string> = {
  move: "Move",
  light: "Light",
  texture: "Texture",
  hide: "Hide",
  combine: "Combine",
  fit: "Fit",
};
/** Steps a row; style sheet and arrows go by it. */
const ACROSS = 5;
const PICTURE = 160;

interface Props {
  catalogue: StepFacts[];
  dataset: Dataset;
  /** The picture that shows what each step does. */
  image: ImageRow | undefined;
  add: (facts: StepFacts) => void;
}

/** The dialog in which steps are looked at; one is added. */
export function StepChoices({ open, close, gone, ...choices }: Props & { open: boolean; close: () => void; gone: () => void }) {
  return (
    // Gone at once: a page that fades is drawn anew again and again just when the tiles come.
    <Dialog.Root
      lazyMount
      unmountOnExit
      open={open}
      onOpenChange={(change) => !change.open && close()}
      onExitComplete={gone}
      placement="top"
      size="xl"
      motionPreset="none"
    >
      <Portal>
        <Dialog.Backdrop animation="none" />
        <Dialog.Positioner>
          <Dialog.Content aria-label="Add a step">
            <Dialog.Body p={3}>
              <Choices {...choices} />
            </Dialog.Body>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}

function Choices({ catalogue, dataset, image, add }: Props) {
  const [words, setWords] = useState("");
  const [active, setActive] = useState<number | null>(null);
  const list = useRef<HTMLDivElement>(null);
  const groups = useMemo(() => grouped(catalogue, words), [catalogue, words]);
  const found = useMemo(() => groups.flatMap(([, steps]) => steps), [groups]);
  const best = useMemo(() => bestOf(found, words), [found, words]);
  const pictures = usePictures(catalogue, dataset, image);
  const at = Math.min(active ?? best, found.length - 1);
  const keys = (event: KeyboardEvent) => {
    const chosen = found[at];
    if (event.key === "Enter" && chosen) add(chosen);
    const to = walked(groups, at, event.key);
    if (to === null) return;
    event.preventDefault();
    setActive(to);
    list.current?.querySelectorAll("[role=option]")[to]?.scrollIntoView({ block: "nearest" });
  };
  return (
    <>
      <Input
        autoFocus
        role="combobox"
        aria-expanded
        aria-controls="step-choices"
        aria-activedescendant={found[at] && `step-choice-${found[at].step}`}
        aria-label="Find a step"
        placeholder="Find a step by what it does; arrows walk, Enter adds"
        value={words}
        onChange={(event) => {
          setWords(event.target.value);
          setActive(null);
        }}
        onKeyDown={keys}
      />
      <div id="step-choices" role="listbox" aria-label="Steps" className="step-choices" ref={list}>
        {groups.map(([purpose, steps]) => (
          // biome-ignore lint/a11y/useSemanticElements: a group of options, not of fields
          <div key={purpose} role="group" aria-label={PURPOSES[purpose] ?? purpose}>
            <p className="step-purpose" aria-hidden>
              {PURPOSES[purpose] ?? purpose}
            </p>
            <div className="step-row">
              {steps.map((facts) => (
                <Choice
                  key={facts.step}
                  facts={facts}
                  picture={pictures.get(facts.step)}
                  active={found[at] === facts}
                  add={add}
                  point={() => setActive(found.indexOf(facts))}
                />
              ))}
            </div>
          </div>
        ))}
        {found.length === 0 && (
          <Text color="fg.muted" p={3}>
            No step is described by these words.
          </Text>
        )}
      </div>
      <Text mt={2} minHeight="40px" color="fg.muted" fontSize="body" aria-live="polite">
        {found[at] && (
          <>
            <Text as="span" color="fg" fontWeight={600}>
              {sayName(found[at].step)}
            </Text>
            {`: ${found[at].meaning}`}
          </>
        )}
      </Text>
    </>
  );
}

interface ChoiceProps {
  facts: StepFacts;
  picture: string | undefined;
  active: boolean;
  add: (facts: StepFacts) => void;
  point: () => void;
}

function Choice({ facts, picture, active, add, point }: ChoiceProps) {
  return (
    <button
      type="button"
      id={`step-choice-${facts.step}`}
      role="option"
      aria-selected={active}
      tabIndex={-1}
      className="step-choice"
      title={facts.meaning}
      onClick={() => add(facts)}
      onPointerMove={active ? undefined : point}
    >
      <span className="step-picture">{picture && <img src={picture} alt="" draggable={false} />}</span>
      {sayName(facts.step)}
    </button>
  );
}

/** The steps that all words describe, under their purposes. */
export function grouped(catalogue: StepFacts[], words: string): [string, StepFacts[]][] {
  const wanted = words
    .toLowerCase()
    .split(/[\s_-]+/)
    .filter(Boolean);
  const found = catalogue.filter((facts) => {
    const text = [sayName(facts.step), facts.purpose, facts.meaning, ...facts.words, ...facts.parameters.map((each) => each.name)];
    return wanted.every((word) => text.join(" ").toLowerCase().includes(word));
  });
  const purposes = [...new Set([...Object.keys(PURPOSES), ...catalogue.map((facts) => facts.purpose)])];
  const groups = purposes.map((purpose): [string, StepFacts[]] => [purpose, found.filter((facts) => facts.purpose === purpose)]);
  return groups.filter(([, steps]) => steps.length > 0);
}

/** Which of them the words name outright; the first where none does. */
export function bestOf(found: StepFacts[], words: string): number {
  const said = words
    .trim()
    .toLowerCase()
    .replaceAll(/[\s_-]+/g, " ");
  const named = found.findIndex((facts) => sayName(facts.step) === said);
  return Math.max(named >= 0 ? named : found.findIndex((facts) => facts.words.includes(said)), 0);
}

/** Where a key leads from place `at`, counted over all groups; null for a key that leads nowhere. */
export function walked(groups: [string, unknown[]][], at: number, key: string): number | null {
  const lines = groups.flatMap(([, steps]) =>
    Array.from({ length: Math.ceil(steps.length / ACROSS) }, (_, line) => Math.min(ACROSS, steps.length - line * ACROSS)),
  );
  const starts = lines.map((_, line) => lines.slice(0, line).reduce((sum, count) => sum + count, 0));
  const total = lines.reduce((sum, count) => sum + count, 0);
  if (key === "ArrowRight" || key === "ArrowLeft") return Math.min(Math.max(at + (key === "ArrowRight" ? 1 : -1), 0), total - 1);
  if (key !== "ArrowDown" && key !== "ArrowUp") return null;
  const line = starts.findLastIndex((start) => start <= at);
  const to = line + (key === "ArrowDown" ? 1 : -1);
  const count = lines[to];
  const start = starts[to];
  if (count === undefined || start === undefined) return at;
  return start + Math.min(at - (starts[line] ?? 0), count - 1);
}

/** What each step makes of a picture, as addresses of small pictures, by the step's name. */
function usePictures(catalogue: StepFacts[], dataset: Dataset, image: ImageRow | undefined) {
  const [found, setFound] = useState<ReadonlyMap<string, string>>(new Map());
  const asked = image?.id;
  useEffect(() => {
    const { document } = useDraft.getState();
    if (asked === undefined || !document) return;
    const ended = new AbortController();
    const coming = new Map<string, string>();
    const show = () => setFound(new Map(coming));
    const wish = {
      dataset: dataset.id,
      documents: catalogue.map((facts) => ({ ...document, steps: [exampleOf(facts)] })),
      tiles: catalogue.map((_, place) => [place, asked, 1] as const),
      width: PICTURE,
      exact: false,
    };
    let frame = 0;
    // Without pictures the steps are chosen by their names.
    streamLooks(wish, ended.signal, ({ place, jpeg }) => {
      const facts = catalogue[place];
      if (!facts || !jpeg.length || ended.signal.aborted) return;
      coming.set(facts.step, URL.createObjectURL(new Blob([jpeg], { type: "image/jpeg" })));
      frame ||= requestAnimationFrame(() => {
        frame = 0;
        show();
      });
    }).catch(() => undefined);
    return () => {
      ended.abort();
      cancelAnimationFrame(frame);
      for (const address of coming.values()) URL.revokeObjectURL(address);
    };
  }, [catalogue, dataset.id, asked]);
  return found;
}
