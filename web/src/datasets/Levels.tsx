import { Box, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { PlotSays } from "../shell/PlotFrame";
import { saySplit } from "../words/figures";

interface Props {
  split: string;
  mean: number[];
  std: number[];
  levels: number[][];
  range: number[][];
}

const CHANNELS = ["red", "green", "blue"];
/** Bright enough on dark and on light; each also has its name beside its numbers. */
const COLORS = ["#e0705a", "#5aa873", "#5b93d8"];

/** How often each level occurs per channel, and the mean and deviation that go into a normalisation. */
export function Levels({ split, mean, std, levels, range }: Props) {
  const most = Math.max(...levels.flat().map(Math.sqrt));
  const path = (counts: number[]) =>
    counts.map((count, place) => `${place ? "L" : "M"}${place} ${(40 - (40 * Math.sqrt(count)) / most).toFixed(2)}`).join("");
  const totals = levels.map((counts) =>
    Math.max(
      1,
      counts.reduce((sum, count) => sum + count, 0),
    ),
  );
  const [place, setPlace] = useState<number | undefined>();
  const shares = levels.map((counts, channel) => (100 * (counts[place ?? 0] ?? 0)) / (totals[channel] as number));
  const bin = 256 / (levels[0]?.length ?? 64);
  return (
    <Box>
      <PlotSays
        said={
          place === undefined
            ? undefined
            : `${place * bin}–${(place + 1) * bin - 1}: ${shares.map((share) => share.toFixed(1)).join(", ")} % of r, g, b`
        }
        otherwise="how often, as a square root"
      />
      <svg
        viewBox="0 0 63 40"
        preserveAspectRatio="none"
        width="100%"
        height="56"
        role="img"
        aria-label="pixel values per channel"
        onPointerMove={({ clientX, currentTarget }) => {
          const { left, width } = currentTarget.getBoundingClientRect();
          setPlace(Math.min(63, Math.max(0, Math.round((63 * (clientX - left)) / width))));
        }}
        onPointerLeave={() => setPlace(undefined)}
      >
        {place !== undefined && (
          <path d={`M${place} 0V40`} stroke="currentColor" strokeWidth={1} opacity={0.5} vectorEffect="non-scaling-stroke" />
        )}
        {levels.map((counts, channel) => (
          <path
            key={CHANNELS[channel]}
            d={path(counts)}
            fill="none"
            stroke={COLORS[channel]}
            strokeWidth={1.4}
            vectorEffect="non-scaling-stroke"
          />
        ))}
      </svg>
      <Flex justify="space-between" fontSize="caption" color="fg.muted">
        <Text>0</Text>
        <Text>level, {split === "all" ? "all images" : saySplit(split)}</Text>
        <Text>255</Text>
      </Flex>
      <Box as="table" fontSize="small" width="100%" mt={1}>
        <thead>
          <tr style={{ opacity: 0.75 }}>
            <th />
            <th style={{ textAlign: "right", fontWeight: 400, paddingLeft: 6 }}>mean</th>
            <th style={{ textAlign: "right", fontWeight: 400, paddingLeft: 6 }}>deviation</th>
            <th style={{ textAlign: "right", fontWeight: 400, paddingLeft: 6 }}>range</th>
          </tr>
        </thead>
        <tbody>
          {CHANNELS.map((channel, place) => (
            <tr key={channel}>
              <td>
                <Box as="span" display="inline-block" width="8px" height="8px" mr={1.5} style={{ background: COLORS[place] }} />
                {channel}
              </td>
              <td style={{ textAlign: "right", paddingLeft: 6 }}>{mean[place]?.toFixed(1)}</td>
              <td style={{ textAlign: "right", paddingLeft: 6 }}>{std[place]?.toFixed(1)}</td>
              <td style={{ textAlign: "right", paddingLeft: 6 }}>{range[place]?.join("–")}</td>
            </tr>
          ))}
        </tbody>
      </Box>
    </Box>
  );
}
