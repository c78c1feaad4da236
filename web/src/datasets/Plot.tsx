import { Box, Flex, Text } from "@chakra-ui/react";

interface Bin {
  low: number;
  high: number;
  count: number;
}

interface Props {
  name: string;
  bins: Bin[];
  /** The bin the wall is narrowed to, as low-high. */
  on: string | undefined;
  say: (bin: Bin) => string;
  choose: (bin: string | undefined) => void;
}

/** Counts as upright bars; pressing one narrows the wall to it, and again widens it. */
export function Plot({ name, bins, on, say, choose }: Props) {
  const most = Math.max(...bins.map((bin) => bin.count));
  return (
    <Box role="group" aria-label={name}>
      <Flex height="56px" align="flex-end" gap="2px">
        {bins.map((bin) => {
          const value = `${bin.low}-${bin.high}`;
          return (
            <Flex
              key={value}
              as="button"
              flex="1"
              height="100%"
              align="flex-end"
              title={say(bin)}
              aria-label={say(bin)}
              aria-pressed={on === value}
              onClick={() => choose(on === value ? undefined : value)}
              _hover={{ bg: "bg.emphasized/50" }}
            >
              <Box
                width="100%"
                height={`${(100 * bin.count) / most}%`}
                minHeight={bin.count ? "2px" : 0}
                bg={on === value ? "amber.solid" : "fg.muted"}
              />
            </Flex>
          );
        })}
      </Flex>
      <Flex justify="space-between" fontSize="caption" color="fg.muted" mt="2px">
        <Text>{short(bins[0]?.low)}</Text>
        <Text>{short(bins.at(-1)?.high)}</Text>
      </Flex>
    </Box>
  );
}

const short = (value: number | undefined) => (value === undefined ? "" : Number(value.toPrecision(3)));
