import { Box, Flex } from "@chakra-ui/react";
import { PlotBar, PlotFrame } from "../shell/PlotFrame";
import { counted } from "../words/figures";

interface Bin {
  low: number;
  high: number;
  count: number;
}

interface Props {
  name: string;
  bins: Bin[];
  /** What is counted, in the singular. */
  of: string;
  /** What is measured along the axis. */
  unit: string;
  /** The bin the wall is narrowed to, as low-high. */
  on: string | undefined;
  say: (bin: Bin) => string;
  choose: (bin: string | undefined) => void;
}

/** Counts as upright bars; pressing one narrows the wall to it, and again widens it. */
export function Plot({ name, bins, of, unit, on, say, choose }: Props) {
  const most = Math.max(...bins.map((bin) => bin.count));
  return (
    <Box role="group" aria-label={name}>
      <PlotFrame top={counted(most, of)} ticks={ticksOf(bins)} unit={unit}>
        <Flex height="56px" align="flex-end" gap="2px">
          {bins.map((bin) => {
            const value = `${bin.low}-${bin.high}`;
            return (
              <PlotBar
                key={value}
                share={bin.count / most}
                said={say(bin)}
                on={on === value}
                choose={() => choose(on === value ? undefined : value)}
              />
            );
          })}
        </Flex>
      </PlotFrame>
    </Box>
  );
}

/** The edges of some bins: both ends, and what fits between them. Bins that stand for one number each have it below their middle. */
function ticksOf(bins: Bin[]) {
  const single = bins.every((bin) => bin.low === bin.high);
  const shown = 4;
  const edges = single ? bins.map((bin) => bin.low) : [...bins.map((bin) => bin.low), bins.at(-1)?.high ?? 0];
  const step = Math.max(1, Math.ceil((edges.length - 1) / shown));
  return edges
    .map((edge, place) => ({ at: (place + (single ? 0.5 : 0)) / bins.length, text: short(edge), place }))
    .filter(({ place }) => place % step === 0 && (place === 0 || edges.length - 1 - place >= step / 2 || place === edges.length - 1));
}

const short = (value: number) => Number(value.toPrecision(value >= 1000 ? 4 : 2));
