import { Box } from "@chakra-ui/react";
import { Area, CartesianGrid, ComposedChart, Legend, Line, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import { seriesColor } from "../picture/draw-labels";
import { PLOT_TEXT } from "../theme";

interface Props {
  series: { name: string; points: CurvePoint[] }[];
}

/** The mean of the runs in an epoch, and the least and largest of them. */
export interface CurvePoint {
  epoch: number;
  value: number;
  band: [number, number];
}

const MUTED = "var(--chakra-colors-fg-muted)";

/** Values over epochs, a line an edition, with a band where it has several runs. */
export default function Curves({ series }: Props) {
  const epochs = [...new Set(series.flatMap((each) => each.points.map((point) => point.epoch)))].sort((a, b) => a - b);
  const rows = epochs.map((epoch) => ({
    epoch,
    ...Object.fromEntries(
      series.flatMap((each) => {
        const point = each.points.find((candidate) => candidate.epoch === epoch);
        return [
          [each.name, point?.value],
          [bandOf(each.name), point?.band],
        ];
      }),
    ),
  }));
  return (
    <Box height="280px" role="img" aria-label={`Curves of ${series.length} editions`}>
      <ResponsiveContainer>
        <ComposedChart data={rows} margin={{ top: 8, right: 16, bottom: 4, left: 0 }}>
          <CartesianGrid stroke="var(--chakra-colors-border)" vertical={false} />
          <XAxis dataKey="epoch" type="number" domain={["dataMin", "dataMax"]} stroke={MUTED} fontSize={PLOT_TEXT} />
          <YAxis domain={["auto", "auto"]} stroke={MUTED} fontSize={PLOT_TEXT} width={52} />
          <Tooltip
            contentStyle={{
              background: "var(--chakra-colors-bg-raised)",
              border: "1px solid var(--chakra-colors-border)",
              fontSize: PLOT_TEXT,
            }}
          />
          <Legend itemSorter={null} wrapperStyle={{ fontSize: PLOT_TEXT }} />
          {series
            .filter((each) => each.points.some((point) => point.band[1] > point.band[0]))
            .map((each) => (
              <Area
                key={bandOf(each.name)}
                dataKey={bandOf(each.name)}
                stroke="none"
                fill={seriesColor(series.indexOf(each))}
                fillOpacity={0.2}
                isAnimationActive={false}
                legendType="none"
                tooltipType="none"
                connectNulls
              />
            ))}
          {series.map((each, place) => (
            <Line
              key={each.name}
              dataKey={each.name}
              stroke={seriesColor(place)}
              strokeWidth={2}
              dot={false}
              isAnimationActive={false}
              connectNulls
            />
          ))}
        </ComposedChart>
      </ResponsiveContainer>
    </Box>
  );
}

const bandOf = (name: string) => `${name} band`;
