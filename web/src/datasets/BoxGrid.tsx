import { Box, Flex, Text } from "@chakra-ui/react";
import { useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { PlotSays } from "../shell/PlotFrame";
import { counted } from "../words/figures";

interface Area {
  width: string;
  height: string;
}

interface Props {
  grid: Schemas["BoxGrid"];
  on: Partial<Area>;
  choose: (area: Area | undefined) => void;
}

type Cell = [column: number, row: number];

/** Boxes by width and height, darker to lighter by number; dragging over an area narrows the wall to it. */
export function BoxGrid({ grid, on, choose }: Props) {
  const { counts, left, bottom } = grid;
  const columns = counts[0]?.length ?? 0;
  const rows = counts.length;
  const most = Math.max(...counts.flat());
  const [drag, setDrag] = useState<{ from: Cell; to: Cell } | null>(null);
  const from = useRef<Cell | null>(null);
  const edge = (place: number) => Number((2 ** (place / 2)).toFixed(2));
  const area = (one: Cell, other: Cell): Area => {
    const [low, high] = [0, 1].map((axis) => [one[axis] as number, other[axis] as number].sort((a, b) => a - b)) as [number[], number[]];
    return {
      width: `${edge(left + (low[0] as number))}-${edge(left + (low[1] as number) + 1)}`,
      height: `${edge(bottom + (high[0] as number))}-${edge(bottom + (high[1] as number) + 1)}`,
    };
  };
  const chosen = (cell: Cell) => {
    if (drag) return within(cell, drag.from, drag.to);
    if (!on.width || !on.height) return false;
    const inside = (span: string, place: number) => {
      const [low = 0, high = 0] = span.split("-").map(Number);
      return edge(place) >= low - 0.01 && edge(place + 1) <= high + 0.01;
    };
    return inside(on.width, left + cell[0]) && inside(on.height, bottom + cell[1]);
  };
  const finish = () => {
    if (from.current && drag) {
      const wanted = area(drag.from, drag.to);
      choose(wanted.width === on.width && wanted.height === on.height ? undefined : wanted);
    }
    from.current = null;
    setDrag(null);
  };
  const [said, setSaid] = useState<string | undefined>();
  return (
    <Flex gap={1} wrap="wrap">
      <PlotSays said={said} otherwise={`lightest: ${counted(most, "object")}`} />
      <Text fontSize="caption" color="fg.muted" style={{ writingMode: "vertical-rl", transform: "rotate(180deg)" }}>
        height, px
      </Text>
      <Box flex="1" minWidth={0}>
        <Box
          role="group"
          aria-label="box width and height"
          display="grid"
          gap="1px"
          style={{ gridTemplateColumns: `repeat(${columns}, 1fr)` }}
          onPointerLeave={() => {
            setDrag(null);
            setSaid(undefined);
          }}
          onPointerUp={finish}
        >
          {counts.toReversed().flatMap((line, down) =>
            line.map((count, column) => {
              const row = rows - 1 - down;
              const cell: Cell = [column, row];
              const here = `${counted(count, "object")}, ${edge(left + column)} to ${edge(left + column + 1)} px wide, ${edge(bottom + row)} to ${edge(bottom + row + 1)} px high`;
              const brief = `${counted(count, "object")}, ${Math.round(edge(left + column))}-${Math.round(edge(left + column + 1))} × ${Math.round(edge(bottom + row))}-${Math.round(edge(bottom + row + 1))} px`;
              const on = chosen(cell);
              return (
                <Box
                  as="button"
                  // biome-ignore lint/suspicious/noArrayIndexKey: a cell is its place
                  key={`${column}-${row}`}
                  height="13px"
                  aria-label={here}
                  aria-pressed={on}
                  tabIndex={count ? 0 : -1}
                  bg={on ? "amber.solid" : "fg.muted"}
                  opacity={on ? 0.45 + 0.55 * Math.sqrt(count / most) : count ? 0.18 + 0.82 * Math.sqrt(count / most) : 0.05}
                  onPointerDown={(event: React.PointerEvent) => {
                    event.preventDefault();
                    from.current = cell;
                    setDrag({ from: cell, to: cell });
                  }}
                  onPointerEnter={() => {
                    setSaid(brief);
                    if (from.current) setDrag({ from: from.current, to: cell });
                  }}
                  onFocus={() => setSaid(brief)}
                  onKeyDown={(event: React.KeyboardEvent) => {
                    if (event.key === "Enter" || event.key === " ") choose(on ? undefined : area(cell, cell));
                  }}
                />
              );
            }),
          )}
        </Box>
        <Flex justify="space-between" fontSize="caption" color="fg.muted" mt="2px">
          <Text>{Math.round(edge(left))}</Text>
          <Text>width, px</Text>
          <Text>{Math.round(edge(left + columns))}</Text>
        </Flex>
      </Box>
    </Flex>
  );
}

function within(cell: Cell, one: Cell, other: Cell): boolean {
  return [0, 1].every((axis) => {
    const [low, high] = [one[axis] as number, other[axis] as number].sort((a, b) => a - b) as [number, number];
    return (cell[axis] as number) >= low && (cell[axis] as number) <= high;
  });
}
