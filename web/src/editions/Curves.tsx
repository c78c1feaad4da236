import { Box } from "@chakra-ui/react";
import { CartesianGrid, Legend, Line, LineChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import { PLOT_TEXT, seriesColor } from "../theme";

interface Props {
  series: { name: string; points: { epoch: number; value: number }[] }[];
}

const MUTED = "var(--chakra-colors-fg-muted)";

/** Values over epochs, a line an edition. */
export default function Curves({ series }: Props) {
  const epochs = [...new Set(series.flatMap((each) => each.points.map((point) => point.epoch)))].sort((a, b) => a - b);
  const rows = epochs.map((epoch) => ({
    epoch,
    ...Object.fromEntries(series.map((each) => [each.name, each.points.find((point) => point.epoch === epoch)?.value])),
  }));
  return (
    <Box height="280px" role="img" aria-label={`Curves of ${series.length} editions`}>
      <ResponsiveContainer>
        <LineChart data={rows} margin={{ top: 8, right: 16, bottom: 4, left: 0 }}>
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
        </LineChart>
      </ResponsiveContainer>
    </Box>
  );
}
