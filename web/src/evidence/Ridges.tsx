import { Box } from "@chakra-ui/react";
import { useId, useState } from "react";
import { PLOT_TEXT } from "../theme";

/** Round numbers between two, about `parts` of them apart; `steps`: the leading figures they may have. */
export function ticks(from: number, to: number, parts: number, steps: readonly number[]): number[] {
  const raw = (to - from) / parts;
  const power = 10 ** Math.floor(Math.log10(raw));
  const step = steps.map((each) => each * power).find((each) => each >= raw) ?? raw;
  const found: number[] = [];
  for (let mark = Math.ceil(from / step) * step; mark <= to; mark += step) found.push(Number(mark.toPrecision(6)));
  return found;
}

interface Line {
  name: string;
  values: readonly number[];
  color: string;
  /** Drawn as a line over the one before, not as a ridge of its own. */
  over?: boolean;
}

interface Props {
  title: string;
  unit: string;
  lines: Line[];
}

const WIDTH = 300;
const ROW = 24;
const AXIS = 20;
const BINS = 60;

/** Distributions over each other on one axis, the last one's 2-98 % range shaded behind all: what it holds and others don't is seen at once. */
export function Ridges({ title, unit, lines }: Props) {
  const clip = useId();
  const [at, setAt] = useState<number | null>(null);
  const all = lines.flatMap((line) => line.values);
  const field = [...(lines.at(-1)?.values ?? [])].sort((a, b) => a - b);
  const low = Math.min(...all);
  const high = Math.max(...all);
  const spare = (high - low || Math.abs(high) || 1) * 0.06;
  const [from, to] = [low - spare, high + spare];
  const x = (value: number) => ((value - from) / (to - from)) * WIDTH;
  const ridges = lines.filter((line) => !line.over);
  const height = ridges.length * ROW + AXIS;
  // A line over another stands on the other's row.
  const rows = lines.map((_, place) => lines.slice(0, place + 1).filter((line) => !line.over).length);
  // A number at the very edge would be cut.
  const marks = ticks(from, to, 4, [1, 2, 2.5, 5, 10]).filter((mark) => x(mark) > 14 && x(mark) < WIDTH - 14);
  return (
    <Box
      position="relative"
      onPointerMove={(event) => {
        const box = event.currentTarget.getBoundingClientRect();
        setAt(from + ((event.clientX - box.left) / box.width) * (to - from));
      }}
      onPointerLeave={() => setAt(null)}
    >
      <svg
        viewBox={`0 0 ${WIDTH} ${height}`}
        width="100%"
        role="img"
        aria-label={`${title}: ${lines.map((line) => `${line.name} ${middle(line.values)}`).join(", ")} ${unit}`}
      >
        <clipPath id={clip}>
          <rect width={WIDTH} height={height - AXIS} />
        </clipPath>
        <rect
          x={x(quantile(field, 0.02)) - 1}
          width={Math.max(2, x(quantile(field, 0.98)) - x(quantile(field, 0.02)) + 2)}
          y={0}
          height={height - AXIS}
          fill="var(--chakra-colors-bg-emphasized)"
        />
        <g clipPath={`url(#${clip})`}>
          {lines.map((line, place) => {
            const base = (rows[place] ?? 0) * ROW;
            const path = outline(line.values, from, to, base);
            return line.over ? (
              <path key={line.name} d={path} fill="none" stroke={line.color} strokeWidth={1.6} strokeDasharray="4 2" />
            ) : (
              <path key={line.name} d={path} fill={line.color} fillOpacity={0.55} stroke={line.color} strokeWidth={1} />
            );
          })}
        </g>
        <line
          x1={0}
          x2={WIDTH}
          y1={height - AXIS + 0.5}
          y2={height - AXIS + 0.5}
          stroke="var(--chakra-colors-fg-muted)"
          strokeWidth={0.8}
        />
        {marks.map((mark) => (
          <g key={mark} transform={`translate(${x(mark)} ${height - AXIS})`}>
            <line y2={4} stroke="var(--chakra-colors-fg-muted)" strokeWidth={0.8} />
            <text y={16} textAnchor="middle" fontSize={PLOT_TEXT + 1} fill="var(--chakra-colors-fg-muted)">
              {short(mark)}
            </text>
          </g>
        ))}
        {at !== null && <line x1={x(at)} x2={x(at)} y1={0} y2={height - AXIS} stroke="var(--chakra-colors-fg)" strokeWidth={0.7} />}
      </svg>
      {at !== null && (
        <Box position="absolute" right={0} top="-18px" fontSize="caption" color="fg.muted" pointerEvents="none">
          {short(at)} {unit}
        </Box>
      )}
    </Box>
  );
}

/** A smoothed histogram as an area that stands on `base`. */
function outline(values: readonly number[], from: number, to: number, base: number): string {
  const step = (to - from) / BINS;
  const counts = new Array<number>(BINS + 1).fill(0);
  // A triangle of three bins about each value: enough to read a shape of a few dozen.
  for (const value of values) {
    const place = (value - from) / step;
    for (let bin = Math.max(0, Math.ceil(place - 3)); bin <= Math.min(BINS, Math.floor(place + 3)); bin += 1) {
      counts[bin] = (counts[bin] ?? 0) + 1 - Math.abs(bin - place) / 3;
    }
  }
  const most = Math.max(...counts, 1e-9);
  const points = counts.map((count, bin) => `${((bin / BINS) * WIDTH).toFixed(1)},${(base - (count / most) * (ROW - 4)).toFixed(1)}`);
  return `M0,${base} L${points.join(" L")} L${WIDTH},${base}`;
}

function quantile(sorted: readonly number[], share: number): number {
  if (sorted.length === 0) return 0;
  const place = share * (sorted.length - 1);
  const [a, b] = [sorted[Math.floor(place)] ?? 0, sorted[Math.ceil(place)] ?? 0];
  return a + (b - a) * (place - Math.floor(place));
}

const middle = (values: readonly number[]) =>
  short(
    quantile(
      [...values].sort((a, b) => a - b),
      0.5,
    ),
  );

const short = (value: number) => `${Number(value.toPrecision(3))}`;
