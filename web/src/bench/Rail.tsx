import { Box, Flex, Text } from "@chakra-ui/react";
import { closestCenter, DndContext, type DragEndEvent, KeyboardSensor, PointerSensor, useSensor, useSensors } from "@dnd-kit/core";
import { horizontalListSortingStrategy, SortableContext, sortableKeyboardCoordinates, useSortable } from "@dnd-kit/sortable";
import type { KeyboardEvent } from "react";
import type { PipelineDocument, PipelineStep, StepFacts } from "../api/client";
import { changeStep, moveStep, removeStep } from "../state/draft";
import { useView } from "../state/view";
import { AddStep } from "./AddStep";
import { sayName, sayStep } from "./values";

export const RAIL_HEIGHT = 136;
const TRAINING = 46;
const EVALUATION = 98;
const STOP = 132;
const RING = 11;

interface Props {
  document: PipelineDocument;
  catalogue: StepFacts[];
  runs: string[][];
}

/** The pipeline as two lines from source to output: training above, evaluation below. */
export function Rail({ document, catalogue, runs }: Props) {
  const sensors = useSensors(
    useSensor(PointerSensor, { activationConstraint: { distance: 5 } }),
    useSensor(KeyboardSensor, { coordinateGetter: sortableKeyboardCoordinates }),
  );
  const ids = document.steps.map((step) => step.id);
  const drop = ({ active, over }: DragEndEvent) => {
    if (over && active.id !== over.id) moveStep(ids.indexOf(String(active.id)), ids.indexOf(String(over.id)));
  };
  return (
    <Flex as="section" aria-label="Rail" height={`${RAIL_HEIGHT}px`} flex="none" bg="bg.raised" borderBottomWidth="1px" position="relative">
      <Box width="84px" flex="none" position="relative" fontSize="12px" color="fg.muted">
        <Text position="absolute" left={4} top={`${TRAINING - 9}px`}>
          training
        </Text>
        <Text position="absolute" left={4} top={`${EVALUATION - 9}px`}>
          evaluation
        </Text>
      </Box>
      <Box flex="1" minWidth={0} overflowX="auto" overflowY="hidden" position="relative">
        <Box position="relative" height="100%" minWidth={`${document.steps.length * STOP + 16}px`}>
          <Line top={TRAINING} strong />
          <Line top={EVALUATION} />
          <DndContext sensors={sensors} collisionDetection={closestCenter} onDragEnd={drop}>
            <SortableContext items={ids} strategy={horizontalListSortingStrategy}>
              <Flex as="ol" listStyleType="none" height="100%" position="relative" role="list">
                {document.steps.map((step, place) => (
                  <Stop
                    key={step.id}
                    step={step}
                    place={place}
                    last={place === ids.length - 1}
                    facts={catalogue.find((facts) => facts.step === step.step)}
                  />
                ))}
              </Flex>
            </SortableContext>
          </DndContext>
          {runs.map((run) => (
            <SharedResample key={run.join()} places={run.map((id) => ids.indexOf(id)).filter((place) => place >= 0)} count={ids.length} />
          ))}
        </Box>
      </Box>
      <Box width="104px" flex="none" position="relative">
        <Line top={TRAINING} strong end />
        <Line top={EVALUATION} end />
        <Box position="absolute" right={4} top={`${TRAINING - 15}px`}>
          <AddStep catalogue={catalogue} />
        </Box>
      </Box>
    </Flex>
  );
}

function Line({ top, strong, end }: { top: number; strong?: boolean; end?: boolean }) {
  return (
    <Box
      position="absolute"
      left={0}
      right={end ? undefined : 0}
      width={end ? "12px" : undefined}
      top={`${top - 1}px`}
      height="2px"
      bg={strong ? "fg" : "fg.muted"}
      opacity={strong ? 0.9 : 0.55}
    />
  );
}

/** A bracket under the stops whose geometry is done in one resample. */
function SharedResample({ places, count }: { places: number[]; count: number }) {
  if (places.length < 2) return null;
  const centre = (place: number) => `${((place + 0.5) / count) * 100}%`;
  const first = Math.min(...places);
  const final = Math.max(...places);
  return (
    <Box
      position="absolute"
      top={`${EVALUATION + 10}px`}
      left={centre(first)}
      width={`calc(${centre(final)} - ${centre(first)})`}
      height="24px"
      pointerEvents="none"
    >
      <Box height="6px" borderWidth="0 1px 1px 1px" borderColor="fg.muted" opacity={0.7} />
      <Text textAlign="center" fontSize="11px" color="fg.muted" whiteSpace="nowrap">
        one resample
      </Text>
    </Box>
  );
}

function Stop({ step, place, last, facts }: { step: PipelineStep; place: number; last: boolean; facts: StepFacts | undefined }) {
  const { attributes, listeners, setNodeRef, transform, transition, isDragging } = useSortable({ id: step.id });
  const selected = useView((view) => view.selected === step.id);
  const every = step.scope === "every";
  const select = () => useView.setState({ selected: step.id });
  const keys = (event: KeyboardEvent) => {
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
    else if (event.key === "x" || event.key === "X") changeStep(step.id, { enabled: !step.enabled });
    else listeners?.onKeyDown?.(event);
  };
  const says = sayStep(step, facts);
  return (
    <Box
      as="li"
      ref={setNodeRef}
      flex="1 1 0"
      minWidth={`${STOP}px`}
      position="relative"
      style={{ transform: transform ? `translateX(${Math.round(transform.x)}px)` : undefined, transition, zIndex: isDragging ? 2 : 1 }}
    >
      <Box
        {...attributes}
        {...listeners}
        data-stop={step.id}
        as="button"
        aria-label={`${sayName(step.step)}, ${says}, probability ${Math.round(step.probability * 100)} %${step.enabled ? "" : ", switched off"}`}
        aria-pressed={selected}
        onKeyDown={keys}
        onClick={select}
        onFocus={select}
        position="absolute"
        inset="4px 6px"
        borderRadius="4px"
        cursor={isDragging ? "grabbing" : "pointer"}
        color={selected ? "amber.fg" : "fg"}
        bg={selected ? "amber.subtle/50" : "transparent"}
        _hover={{ bg: selected ? "amber.subtle/60" : "bg.emphasized/40" }}
        outlineOffset="-2px"
        opacity={isDragging ? 0.85 : 1}
      >
        <Text
          position="absolute"
          top="5px"
          width="100%"
          textAlign="center"
          fontWeight={600}
          fontSize="13px"
          textDecoration={step.enabled ? undefined : "line-through"}
          opacity={step.enabled ? 1 : 0.6}
        >
          {sayName(step.step)}
        </Text>
        <StopMark every={every} probability={step.probability} enabled={step.enabled} selected={selected} />
        <Text
          position="absolute"
          top={`${TRAINING + 10}px`}
          left={every ? "calc(50% + 18px)" : 0}
          right={0}
          textAlign={every ? "left" : "center"}
          fontSize="11.5px"
          lineHeight="1.25"
          color="fg.muted"
          truncate={!every}
          px={every ? 0 : 1}
        >
          {step.enabled ? says : "off"}
        </Text>
      </Box>
    </Box>
  );
}

/** A ring filled to the step's probability; a step for every split spans both lines. */
function StopMark({ every, probability, enabled, selected }: { every: boolean; probability: number; enabled: boolean; selected: boolean }) {
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
      style={{ position: "absolute", left: "calc(50% - 20px)", top: TRAINING - 4 - RING - 6 }}
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
