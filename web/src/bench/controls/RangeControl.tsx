import { Flex, Slider } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import type { Parameter } from "../../api/client";
import { NumberField } from "../../shell/fields";

const STEPS = 200;

interface Props {
  parameter: Parameter;
  /** A range for two ends, a number for one. */
  value: [number, number] | number;
  change: (value: [number, number] | number) => void;
  /** The ends while they are dragged. */
  hold?: ((values: number[]) => void) | undefined;
}

/** A slider with one or two ends and a number field for each; the slider shows the useful part of the range. */
export function RangeControl({ parameter, value, change, hold }: Props) {
  const values = Array.isArray(value) ? value : [value];
  const [left, right] = parameter.slider ?? [parameter.low ?? 0, parameter.high ?? 1];
  const scale = makeScale(left ?? 0, right ?? 1, parameter.log ?? false, parameter.whole ?? false);
  const [held, setHeld] = useState(values);
  const key = values.join();
  // biome-ignore lint/correctness/useExhaustiveDependencies: `key` stands for the values
  useEffect(() => setHeld((before) => (before.join() === key ? before : values)), [key]);
  const send = (next: number[]) => change(next.length === 2 ? [next[0] ?? 0, next[1] ?? 0] : (next[0] ?? 0));
  const ends = values.length === 2 ? ["lowest", "highest"] : [""];
  const label = (end: number) => `${parameter.name.replaceAll("_", " ")} ${ends[end]}`.trim();
  const field = (end: number) => (
    <NumberField
      label={label(end)}
      value={held[end] ?? 0}
      low={end === 1 ? (values[0] ?? 0) : (parameter.low ?? 0)}
      high={end === 0 && values.length === 2 ? (values[1] ?? 1) : (parameter.high ?? 1)}
      whole={parameter.whole ?? false}
      change={(typed) => typed !== null && send(values.map((old, place) => (place === end ? typed : old)))}
    />
  );
  return (
    <>
      <Slider.Root
        size="sm"
        min={0}
        max={STEPS}
        value={held.map(scale.toPlace)}
        aria-label={ends.map((_, end) => label(end))}
        onValueChange={(details) => {
          const next = details.value.map((place, end) => keep(held[end] ?? 0, place, scale));
          setHeld(next);
          hold?.(next);
        }}
        onValueChangeEnd={(details) => send(details.value.map((place, end) => keep(held[end] ?? 0, place, scale)))}
      >
        <Slider.Control>
          <Slider.Track bg="bg.emphasized">
            <Slider.Range bg="amber.solid" />
          </Slider.Track>
          {ends.map((end, index) => (
            <Slider.Thumb key={end} index={index} bg="fg" borderColor="bg" boxSize={4} />
          ))}
        </Slider.Control>
      </Slider.Root>
      <Flex justify="space-between" mt={2}>
        {ends.map((end, index) => (
          <span key={end}>{field(index)}</span>
        ))}
      </Flex>
    </>
  );
}

interface Scale {
  toPlace: (value: number) => number;
  toValue: (place: number) => number;
}

/** Between values and slider places; factors are spread by their logarithm, so that halving and doubling look alike. */
function makeScale(left: number, right: number, log: boolean, whole: boolean): Scale {
  const forth = log ? Math.log : (value: number) => value;
  const back = log ? Math.exp : (value: number) => value;
  const [a, b] = [forth(left), forth(right)];
  return {
    toPlace: (value) => Math.round(Math.min(1, Math.max(0, (forth(Math.max(value, log ? 1e-6 : -1e12)) - a) / (b - a))) * STEPS),
    toValue: (place) => tidy(back(a + ((b - a) * place) / STEPS), right - left, whole),
  };
}

/** A moved end takes the slider's value; one that stayed keeps its own, which may be finer or off the slider. */
function keep(old: number, place: number, scale: Scale): number {
  return scale.toPlace(old) === place ? old : scale.toValue(place);
}

function tidy(value: number, width: number, whole: boolean): number {
  return Number(value.toFixed(whole ? 0 : width >= 20 ? 1 : width >= 1 ? 2 : 3));
}
