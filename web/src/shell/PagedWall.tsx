import { Box, Button, Flex, Text } from "@chakra-ui/react";
import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, type RefObject, useEffect, useRef, useState } from "react";
import { counted } from "../words/figures";

const PAGE = 60;
export const WALL_TILE = 164;
const GAP = 10;
const ROW = 158;
/** How high a picture on a wall may be: below it stands its name. */
export const WALL_HIGH = ROW - GAP - 24;

interface Paged<T> {
  total: number;
  itemAt: (place: number) => T | undefined;
  box: RefObject<HTMLDivElement | null>;
  columns: number;
  /** Rows in sight, and the height of all. */
  lines: { index: number; start: number; key: React.Key }[];
  height: number;
  error: Error | null;
}

interface Pages<T> {
  /** What the pages are of; another key, other pages. */
  key: readonly unknown[];
  fetch: (offset: number, count: number) => Promise<{ total: number; items: T[] }>;
  /** A place that is needed though it may be out of sight. */
  also: number | null;
}

/** A long list that lives on the server, of which only what is in sight is asked for. */
export function usePaged<T>({ key, fetch, also }: Pages<T>): Paged<T> {
  const box = useRef<HTMLDivElement>(null);
  const [columns, setColumns] = useState(4);
  useEffect(() => {
    const watch = new ResizeObserver(
      ([entry]) => entry && setColumns(Math.max(1, Math.floor((entry.contentRect.width + GAP) / (WALL_TILE + GAP)))),
    );
    if (box.current) watch.observe(box.current);
    return () => watch.disconnect();
  }, []);
  const page = (number: number) => ({ queryKey: [...key, number], queryFn: () => fetch(number * PAGE, PAGE) });
  const first = useQuery({ ...page(0), placeholderData: keepPreviousData });
  const total = first.data?.total ?? 0;
  const rows = useVirtualizer({
    count: Math.ceil(total / columns),
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 2,
  });
  const lines = rows.getVirtualItems();
  const from = Math.floor(((lines[0]?.index ?? 0) * columns) / PAGE);
  const to = Math.floor((((lines.at(-1)?.index ?? 0) + 1) * columns - 1) / PAGE);
  const needed = new Set(Array.from({ length: to - from + 1 }, (_, n) => from + n));
  if (also !== null) needed.add(Math.floor(also / PAGE));
  const numbers = [...needed];
  const pages = useQueries({ queries: numbers.map(page) });
  const itemAt = (place: number) => pages[numbers.indexOf(Math.floor(place / PAGE))]?.data?.items[place % PAGE];
  return { total, itemAt, box, columns, lines, height: rows.getTotalSize(), error: first.error };
}

interface HeadProps {
  total: number;
  all: number;
  /** What the wall is narrowed to, in words; none for everything. */
  said: string[];
  clear: () => void;
}

/** How many there are, of how many, and why. */
export function WallHead({ total, all, said, clear }: HeadProps) {
  return (
    <Flex height="38px" flex="none" align="center" px={4} gap={3}>
      <Text role="status">
        {counted(total, "image")}
        {said.length > 0 && ` of ${all}`}
      </Text>
      {said.length > 0 && (
        <>
          <Text color="fg.muted" truncate>
            {said.join(" · ")}
          </Text>
          <Button size="xs" variant="outline" onClick={clear}>
            show all
          </Button>
        </>
      )}
    </Flex>
  );
}

/** The tiles of a paged list, row by row. */
export function PagedWall<T>({ name, paged, tile }: { name: string; paged: Paged<T>; tile: (item: T, place: number) => ReactNode }) {
  const { total, itemAt, box, columns, lines, height } = paged;
  return (
    <Box ref={box} as="section" aria-label={name} flex="1" overflowY="auto" px={4}>
      <Box position="relative" height={`${height}px`}>
        {lines.map((row) => (
          <Flex key={row.key} position="absolute" top={0} left={0} gap={`${GAP}px`} style={{ transform: `translateY(${row.start}px)` }}>
            {Array.from({ length: columns }, (_, column) => row.index * columns + column)
              .filter((place) => place < total)
              .map((place) => {
                const item = itemAt(place);
                return (
                  <Box key={place} width={`${WALL_TILE}px`}>
                    {item === undefined ? <Box height={`${ROW - GAP}px`} bg="bg.sunken" /> : tile(item, place)}
                  </Box>
                );
              })}
          </Flex>
        ))}
      </Box>
    </Box>
  );
}
