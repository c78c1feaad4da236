import "./rail.css";
import { closestCenter, DndContext, type DragEndEvent, KeyboardSensor, PointerSensor, useSensor, useSensors } from "@dnd-kit/core";
import { horizontalListSortingStrategy, SortableContext, sortableKeyboardCoordinates, useSortable } from "@dnd-kit/sortable";
import { type KeyboardEvent, memo, type RefObject, useEffect, useMemo, useRef, useState } from "react";
import type { Branch, Dataset, ImageRow, PipelineDocument, PipelineStep, StepFacts } from "../api/client";
import { changeStep, duplicateStep, moveStep, removeStep } from "../state/draft";
import { useView } from "../state/view";
import { sayName, sayStep } from "../words/steps";
import { AddStep } from "./AddStep";
import { RAIL_HEIGHT } from "./sheet";

/** A shade at an edge of the rail beyond which there are more stops. */
export function RailEdges({ line }: { line: RefObject<HTMLElement | null> }) {
  const [more, setMore] = useState({ before: false, after: false });
  useEffect(() => {
    const found = line.current;
    if (!found) return;
    const look = () => {
      const before = found.scrollLeft > 2;
      const after = found.scrollLeft + found.clientWidth < found.scrollWidth - 2;
      setMore((now) => (now.before === before && now.after === after ? now : { before, after }));
    };
    const watch = new ResizeObserver(look);
    watch.observe(found);
    if (found.firstElementChild) watch.observe(found.firstElementChild);
    found.addEventListener("scroll", look, { passive: true });
    look();
    return () => {
      watch.disconnect();
      found.removeEventListener("scroll", look);
    };
  }, [line]);
  return (
    <>
      {more.before && <div className="rail-edge" data-side="left" data-testid="rail-edge-left" />}
      {more.after && <div className="rail-edge" data-side="right" data-testid="rail-edge-right" />}
    </>
  );
}

const TRAINING = 46;
const EVALUATION = 98;
const STOP = 132;
const RING = 11;

/** How many ordinary stops a step takes the room of. */
const widthOf = (step: PipelineStep) => (isSplit(step) ? 1.7 : 1);
const isSplit = (step: PipelineStep) => step.step === "junction" && step.enabled;

interface Props {
  document: PipelineDocument;
  catalogue: StepFacts[];
  runs: string[][];
  /** The step whose panel is open. */
  open: string | null;
  dataset: Dataset;
  /** The picture that shows what a step does. */
  image: ImageRow | undefined;
}

/** The pipeline as two lines from source to output: training above, evaluation below. */
export const Rail = memo(function Rail({ document, catalogue, runs, open, dataset, image }: Props) {
  const sensors = useSensors(
    useSensor(PointerSensor, { activationConstraint: { distance: 5 } }),
    useSensor(KeyboardSensor, { coordinateGetter: sortableKeyboardCoordinates }),
  );
  const joined = document.steps.map((step) => step.id).join();
  // The same array as long as the order is the same: every stop looks at it.
  const ids = useMemo(() => joined.split(",").filter(Boolean), [joined]);
  const line = useRef<HTMLDivElement>(null);
  const drop = ({ active, over }: DragEndEvent) => {
    if (over && active.id !== over.id) moveStep(ids.indexOf(String(active.id)), ids.indexOf(String(over.id)));
  };
  return (
    <section className="rail" aria-label="Rail" style={{ height: RAIL_HEIGHT }}>
      <div className="rail-names">
        <p style={{ top: TRAINING - 9 }}>training</p>
        <p style={{ top: EVALUATION - 9 }}>evaluation</p>
      </div>
      <div ref={line} className="rail-stops">
        <div className="rail-lines" style={{ minWidth: document.steps.reduce((sum, step) => sum + widthOf(step), 0) * STOP + 16 }}>
          <Line top={TRAINING} strong />
          <Line top={EVALUATION} />
          <DndContext sensors={sensors} collisionDetection={closestCenter} onDragEnd={drop}>
            <SortableContext items={ids} strategy={horizontalListSortingStrategy}>
              {/* Without its numbers a list is none to some screen readers. */}
              {/* biome-ignore lint/a11y/noRedundantRoles: see above */}
              <ol className="rail-list" role="list">
                {document.steps.map((step, place) => (
                  <Stop
                    key={step.id}
                    step={step}
                    place={place}
                    last={place === ids.length - 1}
                    selected={open === step.id}
                    facts={catalogue.find((facts) => facts.step === step.step)}
                  />
                ))}
              </ol>
            </SortableContext>
          </DndContext>
          {runs.map((run) => (
            <SharedResample
              key={run.join()}
              places={run.map((id) => ids.indexOf(id)).filter((place) => place >= 0)}
              widths={document.steps.map(widthOf)}
            />
          ))}
        </div>
      </div>
      <RailEdges line={line} />
      <div className="rail-end">
        <Line top={TRAINING} strong end />
        <Line top={EVALUATION} end />
        <div className="rail-add" style={{ top: TRAINING - 15 }}>
          <AddStep catalogue={catalogue} dataset={dataset} image={image} />
        </div>
      </div>
    </section>
  );
});

function Line({ top, strong, end }: { top: number; strong?: boolean; end?: boolean }) {
  return <div className="rail-line" data-strong={strong} style={end ? { top: top - 1, width: 12 } : { top: top - 1, right: 0 }} />;
}

/** A bracket under the stops whose geometry is done in one resample. */
function SharedResample({ places, widths }: { places: number[]; widths: number[] }) {
  if (places.length < 2) return null;
  const sum = (parts: number[]) => parts.reduce((all, part) => all + part, 0);
  const centre = (place: number) => `${((sum(widths.slice(0, place)) + (widths[place] ?? 0) / 2) / sum(widths)) * 100}%`;
  const first = Math.min(...places);
  const final = Math.max(...places);
  return (
    <div className="rail-shared" style={{ top: EVALUATION + 10, left: centre(first), width: `calc(${centre(final)} - ${centre(first)})` }}>
      <div />
      <p>one resample</p>
    </div>
  );
}

const Stop = memo(function Stop({
  step,
  place,
  last,
  selected,
  facts,
}: {
  step: PipelineStep;
  place: number;
  last: boolean;
  selected: boolean;
  facts: StepFacts | undefined;
}) {
  const { attributes, listeners, setNodeRef, transform, transition, isDragging } = useSortable({ id: step.id });
  const solo = useView((view) => view.solo);
  const aside = solo !== null && solo !== step.id;
  const select = () => useView.setState({ selected: step.id });
  const keys = (event: KeyboardEvent) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const sideways = event.key === "ArrowLeft" ? -1 : event.key === "ArrowRight" ? 1 : 0;
    if (sideways && event.shiftKey && !isDragging) {
      event.preventDefault();
      if (!(sideways > 0 && last)) moveStep(place, place + sideways);
      return;
    }
    if (sideways && !isDragging) {
      const stops = [...window.document.querySelectorAll<HTMLElement>("[data-stop]")];
      stops[place + sideways]?.focus();
      return;
    }
    if (event.key === "Delete" || event.key === "Backspace") removeStep(step.id);
    else if (event.key === "d" || event.key === "D") useView.setState({ selected: duplicateStep(step.id) });
    else if (event.key === "s" || event.key === "S") useView.setState(({ solo }) => ({ solo: solo === step.id ? null : step.id }));
    else if (event.key === "x" || event.key === "X") changeStep(step.id, { enabled: !step.enabled });
    else listeners?.onKeyDown?.(event);
  };
  const size = widthOf(step);
  return (
    <li
      ref={setNodeRef}
      className="stop-place"
      style={{
        flex: `${size} 1 0`,
        minWidth: size * STOP,
        transform: transform ? `translateX(${Math.round(transform.x)}px)` : undefined,
        transition,
        zIndex: isDragging ? 2 : 1,
      }}
    >
      <button
        type="button"
        {...attributes}
        {...listeners}
        className="stop"
        data-stop={step.id}
        data-dragged={isDragging || undefined}
        data-aside={aside || undefined}
        aria-pressed={selected}
        onKeyDown={keys}
        onClick={select}
        onFocus={select}
      >
        <StopFace step={step} facts={facts} selected={selected} />
      </button>
    </li>
  );
});

/** What a stop shows, apart from where it is dragged to. */
const StopFace = memo(function StopFace({
  step,
  facts,
  selected,
}: {
  step: PipelineStep;
  facts: StepFacts | undefined;
  selected: boolean;
}) {
  const every = step.scope === "every";
  const junction = isSplit(step);
  const says = sayStep(step, facts);
  return (
    <>
      <span className="stop-name" data-off={!step.enabled || undefined}>
        {sayName(step.step)}
      </span>
      {junction && <Junction step={step} />}
      <StopMark every={every} probability={step.probability} enabled={step.enabled} selected={selected} aside={junction} />
      <span className="stop-says" hidden={junction} data-every={every || undefined} style={{ top: TRAINING + 10 }}>
        {step.enabled ? says : "off"}
      </span>
      <span className="unseen">
        {junction && says} probability {Math.round(step.probability * 100)} %
      </span>
    </>
  );
});

const MOST_BRANCHES = 4;

/** The line splitting into its branches, as thick as they are likely, and joining again. */
function Junction({ step }: { step: PipelineStep }) {
  const branches = step.branches as Branch[];
  const shown = branches.slice(0, MOST_BRANCHES);
  const whole = branches.reduce((sum, branch) => sum + branch.weight, 0);
  const gap = shown.length > 3 ? 13 : 16;
  const at = (place: number) => TRAINING + (place - (shown.length - 1) / 2) * gap;
  const [left, right] = [30, 34];
  return (
    <div className="junction" aria-hidden="true">
      <div className="junction-gap" style={{ top: TRAINING - 1, left, right }} />
      {shown.map((branch, place) => {
        const share = branch.weight / whole;
        const thick = 1 + 3 * share;
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: a branch has no name but its place
          <div key={place}>
            {[0, 1].map((end) => (
              <svg
                key={end}
                aria-hidden="true"
                width={14}
                height={RAIL_HEIGHT}
                style={{ position: "absolute", top: 0, ...(end ? { right: right - 14 } : { left }) }}
              >
                <path
                  d={
                    end
                      ? `M0 ${at(place)}C7 ${at(place)} 7 ${TRAINING} 14 ${TRAINING}`
                      : `M0 ${TRAINING}C7 ${TRAINING} 7 ${at(place)} 14 ${at(place)}`
                  }
                  fill="none"
                  stroke="currentColor"
                  strokeWidth={thick}
                />
              </svg>
            ))}
            <div className="junction-branch" style={{ top: at(place) - 6, left: left + 14, right }}>
              <i style={{ height: thick }} />
              <span>{Math.round(100 * share)} %</span>
              <b>{branch.steps.map((each) => sayName(each.step)).join(", ") || "straight"}</b>
              <i style={{ height: thick }} />
            </div>
          </div>
        );
      })}
      {branches.length > MOST_BRANCHES && (
        <p className="junction-more" style={{ top: TRAINING + 30 }}>
          and {branches.length - MOST_BRANCHES} more
        </p>
      )}
    </div>
  );
}

interface MarkProps {
  every: boolean;
  probability: number;
  enabled: boolean;
  selected: boolean;
  /** At the beginning of the stop rather than in its middle. */
  aside: boolean;
}

/** A ring filled to the step's probability; a step for every split spans both lines. */
function StopMark({ every, probability, enabled, selected, aside }: MarkProps) {
  const drop = EVALUATION - TRAINING;
  const around = 2 * Math.PI * RING;
  const ink = enabled ? "currentColor" : "var(--chakra-colors-fg-muted)";
  const height = (every ? drop : 0) + 2 * RING + 12;
  return (
    <svg
      aria-hidden="true"
      width={40}
      height={height}
      viewBox={`0 0 40 ${height}`}
      style={{ position: "absolute", left: aside ? -8 : "calc(50% - 20px)", top: TRAINING - 4 - RING - 6 }}
    >
      {every && (
        <rect
          x={20 - RING}
          y={6}
          width={2 * RING}
          height={drop + 2 * RING}
          rx={RING}
          fill="var(--chakra-colors-bg-raised)"
          stroke={ink}
          strokeOpacity={0.45}
          strokeWidth={2}
        />
      )}
      <circle
        cx={20}
        cy={6 + RING}
        r={RING}
        fill="var(--chakra-colors-bg-raised)"
        stroke={ink}
        strokeOpacity={0.25}
        strokeWidth={3}
        strokeDasharray={enabled ? undefined : "3 3"}
      />
      {enabled && (
        <circle
          cx={20}
          cy={6 + RING}
          r={RING}
          fill="none"
          stroke={ink}
          strokeWidth={3}
          strokeDasharray={`${around * probability} ${around}`}
          transform={`rotate(-90 20 ${6 + RING})`}
        />
      )}
      {every && enabled && <circle cx={20} cy={6 + RING + drop} r={4} fill={ink} />}
      {selected && <circle cx={20} cy={6 + RING} r={4} fill="var(--chakra-colors-amber-solid)" />}
    </svg>
  );
}
