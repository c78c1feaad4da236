import { Box, Flex, Text } from "@chakra-ui/react";
import { createContext, useContext, useState } from "react";

/** Says a part's numbers while it is pointed at or focused, and stops saying them. */
const Saying = createContext<(said: string | undefined) => void>(() => {});

/** What a part of a plot needs to have its numbers said. */
export function useSaid(said: string) {
  const say = useContext(Saying);
  return {
    "aria-label": said,
    onPointerEnter: () => say(said),
    onPointerLeave: () => say(undefined),
    onFocus: () => say(said),
    onBlur: () => say(undefined),
  };
}

interface Props {
  /** What the highest bar stands for, as “43 objects”; nothing where heights are none. */
  top?: string;
  /** Numbers along the axis with their places in it, 0 … 1. */
  ticks: { at: number; text: string | number }[];
  unit: string;
  children: React.ReactNode;
}

/** A plot with what its height means, an axis with numbers and a unit, and a line with the numbers under the pointer. */
export function PlotFrame({ top, ticks, unit, children }: Props) {
  const [said, setSaid] = useState<string | undefined>();
  return (
    <Saying.Provider value={setSaid}>
      <PlotSays said={said} otherwise={top} />
      <Box borderTopWidth={top === undefined ? 0 : "1px"} borderTopStyle="dashed" borderBottomWidth="1px" borderColor="border.emphasized">
        {children}
      </Box>
      <Flex position="relative" height="15px" fontSize="caption" color="fg.muted" aria-hidden="true">
        {ticks.map(({ at, text }) => (
          <Text
            key={at}
            position="absolute"
            whiteSpace="nowrap"
            style={{ left: `${100 * at}%`, transform: `translateX(${at < 0.04 ? 0 : at > 0.96 ? -100 : -50}%)` }}
          >
            {text}
          </Text>
        ))}
      </Flex>
      {unit && (
        <Text fontSize="caption" color="fg.muted" textAlign="center" lineHeight="14px">
          {unit}
        </Text>
      )}
    </Saying.Provider>
  );
}

/** The line above a plot: the numbers under the pointer, else what its height means. */
export function PlotSays({ said, otherwise }: { said: string | undefined; otherwise: string | undefined }) {
  return (
    <Text
      fontSize="caption"
      color={said ? "fg" : "fg.muted"}
      width="100%"
      minHeight="16px"
      lineHeight="16px"
      truncate
      data-plot-says
      title={said}
    >
      {said ?? otherwise}
    </Text>
  );
}

interface BarProps {
  share: number;
  said: string;
  /** Where a bar can be chosen: whether it is, and what then happens. */
  on?: boolean;
  choose?: () => void;
}

/** One bar of counts, its numbers said while it is pointed at. */
export function PlotBar({ share, said, on, choose }: BarProps) {
  const kind = choose ? ({ as: "button", "aria-pressed": on, onClick: choose } as const) : ({ role: "img" } as const);
  return (
    <Flex flex="1" height="100%" align="flex-end" {...kind} {...useSaid(said)} _hover={{ bg: "bg.emphasized/50" }}>
      <Box width="100%" height={`${100 * share}%`} minHeight={share > 0 ? "2px" : 0} bg={on ? "amber.solid" : "fg.muted"} />
    </Flex>
  );
}
