import { Button, Flex, Text } from "@chakra-ui/react";
import type { Parameter } from "../../api/client";
import { NumberField } from "../../shell/fields";

/** What a choice of edges does outside the picture: a stroke runs out of a small frame and continues as it would. */
export function EdgePicture({ edges }: { edges: string }) {
  const stroke = { fill: "none", stroke: "currentColor", strokeWidth: 1.5 };
  return (
    <svg width={30} height={20} viewBox="0 0 30 20" aria-hidden="true">
      {edges === "solid" && <path d="M0 0H30V20H0ZM9 5V15H21V5Z" fill="currentColor" fillRule="evenodd" opacity={0.35} />}
      {edges === "extend" && <path d="M21 5H30M0 15H9" {...stroke} opacity={0.55} />}
      {edges === "mirror" && <path d="M21 5L30 12.5M9 15L0 7.5" {...stroke} opacity={0.55} />}
      {edges === "wrap" && <path d="M21 15L30 7.5M9 5L0 12.5" {...stroke} opacity={0.55} />}
      <path d="M9 15L21 5" {...stroke} />
      <rect x={9} y={5} width={12} height={10} {...stroke} strokeWidth={1} opacity={0.8} />
    </svg>
  );
}

/** One or more of a few whole numbers, each a button to switch on or off; the last one on stays on. */
export function SeveralControl({ options, value, change }: { options: number[]; value: number[]; change: (value: number[]) => void }) {
  return (
    <Flex gap={2}>
      {options.map((option) => {
        const on = value.includes(option);
        const next = on ? value.filter((other) => other !== option) : [...value, option].sort((a, b) => a - b);
        return (
          <Button
            key={option}
            size="xs"
            minWidth="44px"
            variant="outline"
            aria-pressed={on}
            bg={on ? "amber.muted" : undefined}
            borderColor={on ? "amber.border" : undefined}
            disabled={on && value.length === 1}
            _disabled={{ opacity: 1, cursor: "default" }}
            onClick={() => change(next)}
          >
            {option}
          </Button>
        );
      })}
    </Flex>
  );
}

/** A color as the system's own picker, its levels beside it. */
export function ColorControl({
  value,
  name,
  change,
}: {
  value: [number, number, number];
  name: string;
  change: (value: [number, number, number]) => void;
}) {
  const hex = `#${value.map((level) => level.toString(16).padStart(2, "0")).join("")}`;
  return (
    <Flex align="center" gap={3}>
      <input
        type="color"
        aria-label={name}
        value={hex}
        onChange={(event) => {
          const levels = [1, 3, 5].map((at) => Number.parseInt(event.target.value.slice(at, at + 2), 16));
          change(levels as [number, number, number]);
        }}
        style={{ width: 40, height: 26, padding: 0, border: "none", background: "none" }}
      />
      <Text fontSize="small" color="fg.muted">
        {value.join(", ")}
      </Text>
    </Flex>
  );
}

const CHANNELS = ["red", "green", "blue"];

/** One number for each channel, or none: then they are taken from the dataset. */
export function LevelsControl({
  parameter,
  value,
  change,
}: {
  parameter: Parameter;
  value: number[] | null;
  change: (value: number[] | null) => void;
}) {
  if (value === null) {
    return (
      <Flex align="center" gap={3}>
        <Text fontSize="small" color="fg.muted" flex="1">
          from the training split
        </Text>
        <Button size="xs" variant="outline" onClick={() => change(CHANNELS.map(() => 127.5))}>
          set by hand
        </Button>
      </Flex>
    );
  }
  return (
    <Flex direction="column" gap={2}>
      <Flex gap={2}>
        {CHANNELS.map((channel, place) => (
          <NumberField
            key={channel}
            label={`${parameter.name} ${channel}`}
            value={value[place] ?? 0}
            low={parameter.low ?? 0}
            high={parameter.high ?? 255}
            change={(typed) => typed !== null && change(value.map((old, other) => (other === place ? typed : old)))}
          />
        ))}
      </Flex>
      <Button size="xs" variant="outline" alignSelf="flex-start" onClick={() => change(null)}>
        from the training split
      </Button>
    </Flex>
  );
}
