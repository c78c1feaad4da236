import { Box, Flex, Input, Text } from "@chakra-ui/react";

/** What the tables and plots at the wall's left are headed by. */
export function Heading({ children }: { children: React.ReactNode }) {
  return (
    <Text as="h2" fontSize="small" color="fg.muted" mt={5} mb={1.5}>
      {children}
    </Text>
  );
}

interface PanelProps {
  width: string;
  /** Part of a name that the wall is narrowed to. */
  name: string | undefined;
  setName: (name: string | undefined) => void;
  children: React.ReactNode;
}

/** What a wall can be narrowed by, at its left. */
export function NarrowPanel({ width, name, setName, children }: PanelProps) {
  return (
    <Box as="section" aria-label="Filters" width={width} flex="none" borderRightWidth="1px" bg="bg.raised" px={4} py={3} overflowY="auto">
      <Input
        size="xs"
        aria-label="Name contains"
        placeholder="name contains"
        value={name ?? ""}
        onChange={(event) => setName(event.target.value || undefined)}
      />
      {children}
    </Box>
  );
}

interface BarProps {
  name: string;
  count: number;
  most: number;
  color?: string;
  title?: string;
  on: boolean;
  choose: () => void;
}

/** A count as a bar; pressing it narrows the wall to it, and again widens it. */
function Bar(props: BarProps) {
  return (
    <Box
      as="button"
      display="block"
      width="100%"
      textAlign="left"
      py="3px"
      px={1.5}
      borderRadius="3px"
      title={props.title}
      aria-pressed={props.on}
      bg={props.on ? "amber.muted" : undefined}
      _hover={{ bg: props.on ? "amber.muted" : "bg.emphasized/50" }}
      onClick={props.choose}
    >
      <Flex justify="space-between" fontSize="body" gap={2}>
        <Text truncate>{props.name}</Text>
        <Text>{props.count}</Text>
      </Flex>
      <Box height="4px" bg="bg.emphasized" mt="2px">
        <Box height="100%" width={`${props.most ? (100 * props.count) / props.most : 0}%`} bg={props.color ?? "fg.muted"} />
      </Box>
    </Box>
  );
}

/** A named list of counts as bars. */
export function Bars(props: {
  bins: { name: string; count: number; title?: string; color?: string }[];
  on: string | undefined;
  choose: (name: string | undefined) => void;
  say?: (name: string) => string;
}) {
  const most = Math.max(...props.bins.map((bin) => bin.count));
  return props.bins.map((bin) => (
    <Bar
      key={bin.name}
      {...bin}
      name={props.say?.(bin.name) ?? bin.name}
      most={most}
      on={props.on === bin.name}
      choose={() => props.choose(props.on === bin.name ? undefined : bin.name)}
    />
  ));
}
