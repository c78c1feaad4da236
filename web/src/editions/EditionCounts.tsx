import { Box, Flex, Table, Text } from "@chakra-ui/react";
import type { Edition } from "../api/client";
import { classColor } from "../picture/draw-labels";
import { Heading } from "../shell/NarrowPanel";
import { counted, percent, saySplit } from "../words/figures";
import { countsOf, hasObjects, labelled, ofClass, type SplitCount } from "./EditionPage";

export interface Statistics {
  before?: Record<string, SplitCount>;
  box_side_px?: { from: number[]; before: Record<string, number[]>; after: Record<string, number[]> };
  objects?: { kept: number; clipped: number; dropped: number };
  blank_share?: number;
}

export function Counts({ edition, statistics }: { edition: Edition; statistics: Statistics }) {
  const whole = !hasObjects(edition);
  const fates = statistics.objects;
  const all = fates ? fates.kept + fates.clipped + fates.dropped : 0;
  return (
    <>
      <Table.Root size="sm" aria-label="Counts" css={{ "& td, & th": { px: 0, py: "3px", fontSize: "body" } }}>
        <Table.Header>
          <Table.Row bg="transparent">
            <Table.ColumnHeader color="fg.muted">split</Table.ColumnHeader>
            <Table.ColumnHeader textAlign="end" color="fg.muted">
              images
            </Table.ColumnHeader>
            <Table.ColumnHeader textAlign="end" color="fg.muted">
              {whole ? "classes" : "objects"}
            </Table.ColumnHeader>
          </Table.Row>
        </Table.Header>
        <Table.Body>
          {countsOf(edition).map(([split, count]) => (
            <Table.Row key={split} bg="transparent">
              <Table.Cell>{saySplit(split)}</Table.Cell>
              <Table.Cell textAlign="end">{pair(statistics.before?.[split]?.images, count.images)}</Table.Cell>
              <Table.Cell textAlign="end">
                {whole
                  ? Object.values(count.image_classes ?? {}).filter((each) => each > 0).length
                  : pair(statistics.before?.[split]?.objects, count.objects)}
              </Table.Cell>
            </Table.Row>
          ))}
        </Table.Body>
      </Table.Root>
      {fates && all > 0 && (
        <Text mt={2} color="fg.muted">
          {percent(fates.kept / all)} whole, {percent(fates.clipped / all)} clipped, {percent(fates.dropped / all)} lost;{" "}
          {percent(statistics.blank_share ?? 0)} blank
        </Text>
      )}
      {edition.left_out.length > 0 && (
        <Text
          mt={2}
          color="loss"
          title={edition.left_out.map((each) => `${each.source}, variant ${each.variant}: ${each.reason}`).join("\n")}
        >
          {counted(edition.left_out.length, "image was", "images were")} left out, such as {edition.left_out[0]?.source}:{" "}
          {edition.left_out[0]?.reason}
        </Text>
      )}
    </>
  );
}

const pair = (before: number | undefined, after: number) => (before === undefined || before === after ? after : `${before} → ${after}`);

/** Each class's share of the training objects, before above, after below. */
export function Balance({ edition, statistics, classes }: { edition: Edition; statistics: Statistics; classes: string[] | undefined }) {
  const before = statistics.before?.train;
  const after = countsOf(edition).find(([split]) => split === "train")?.[1];
  if (!before || !after || !labelled(before) || !labelled(after)) return null;
  const names = classes ?? Object.keys({ ...after.classes, ...after.image_classes });
  const share = (count: SplitCount, name: string) => ofClass(count, name) / labelled(count);
  const most = Math.max(...names.flatMap((name) => [share(before, name), share(after, name)]));
  return (
    <>
      <Heading>class balance, training: before above, after below</Heading>
      {names.map((name) => (
        <Box key={name} mb="5px">
          <Flex justify="space-between">
            <Text truncate>{name}</Text>
            <Text>
              {percent(share(before, name))} → {percent(share(after, name))}
            </Text>
          </Flex>
          {[before, after].map((count, place) => (
            <Box
              // biome-ignore lint/suspicious/noArrayIndexKey: before and after
              key={place}
              height="4px"
              mb="1px"
              opacity={place ? 1 : 0.5}
              width={`${(100 * share(count, name)) / most}%`}
              style={{ background: classColor(names, name) }}
            />
          ))}
        </Box>
      ))}
    </>
  );
}

/** Box sides in half octaves: shares before as an outline, after filled. */
export function Sides({ from, before, after }: NonNullable<Statistics["box_side_px"]>) {
  const [left, right] = [before.train ?? [], after.train ?? []];
  const sum = (counts: number[]) =>
    Math.max(
      1,
      counts.reduce((a, b) => a + b, 0),
    );
  const shares = from.map((_, place) => [(left[place] ?? 0) / sum(left), (right[place] ?? 0) / sum(right)] as const);
  const used = shares.flatMap((each, place) => (each[0] || each[1] ? [place] : []));
  if (!used.length) return null;
  const [first, last] = [used[0] ?? 0, used.at(-1) ?? 0];
  const most = Math.max(...shares.flat());
  return (
    <>
      <Heading>box sides, px, training: before outlined, after filled</Heading>
      <Flex height="64px" align="flex-end" gap="2px" role="img" aria-label="Box sides before and after">
        {shares.slice(first, last + 1).map(([was, is], place) => (
          <Box
            key={from[first + place]}
            position="relative"
            flex="1"
            height="100%"
            title={`${Math.round(from[first + place] ?? 0)} to ${Math.round((from[first + place] ?? 0) * Math.SQRT2)} px: ${percent(was)} → ${percent(is)}`}
          >
            <Box position="absolute" bottom={0} left={0} right={0} bg="fg.muted" height={`${(100 * is) / most}%`} />
            <Box
              position="absolute"
              bottom={0}
              left={0}
              right={0}
              borderWidth="1px"
              borderColor="amber.solid"
              borderBottomWidth={0}
              height={`${(100 * was) / most}%`}
            />
          </Box>
        ))}
      </Flex>
      <Flex justify="space-between" fontSize="caption" color="fg.muted">
        <Text>{Math.round(from[first] ?? 0)}</Text>
        <Text>{Math.round((from[last] ?? 0) * Math.SQRT2)}</Text>
      </Flex>
    </>
  );
}
