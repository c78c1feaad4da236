import { Box, Flex, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Edition, type EditionRow, type Schemas, take } from "../api/client";
import { askDatasets, askEditionRows, askEditions, askEditionsCompared } from "../api/queries";
import { Heading } from "../shell/NarrowPanel";
import { PagedWall, usePaged, WALL_HIGH, WALL_TILE } from "../shell/PagedWall";
import { OneState } from "../shell/PageState";
import { ViewTools } from "../shell/views";
import { sayChange, saySplit } from "../words/figures";
import { type Drawn, RowPicture } from "./EditionWall";

type Difference = Schemas["EditionDifference"];

/** Two editions side by side: what they were made from, what they hold, and the same image's variants in both. */
export function ComparePage() {
  const { id, other } = useParams();
  const [one, two] = [Number(id), Number(other)];
  const found = useQuery(askEditionsCompared(one, two));
  const editions = useQuery(askEditions);
  const datasets = useQuery(askDatasets);
  const pair = [one, two].map((number) => editions.data?.find((each) => each.id === number) as Edition | undefined);
  const [left, right] = pair;
  const [source, setSource] = useState<string | null>(null);
  if (found.error || !found.data || !left || !right) {
    return <OneState asked={found} what={`pair of editions ${one} and ${two}`} back="/editions" all="All editions" />;
  }
  const dataset: Drawn = datasets.data?.find((each) => each.id === left.dataset) ?? { classes: [], lines: [] };
  return (
    <Flex height="100%">
      <ViewTools>
        <Text fontWeight={650} truncate>
          {left.name} compared with {right.name}
        </Text>
      </ViewTools>
      <Box
        as="section"
        aria-label="What differs"
        width="430px"
        flex="none"
        borderRightWidth="1px"
        bg="bg.raised"
        overflowY="auto"
        px={5}
        py={3}
        fontSize="body"
      >
        <Flex gap={3} fontWeight={600}>
          {pair.map((edition) => (
            <Box key={edition?.id} flex="1" minWidth={0}>
              <Link to={`/editions/${edition?.id}`}>
                <Text truncate textDecoration="underline" textUnderlineOffset="3px">
                  {edition?.id} {edition?.name}
                </Text>
              </Link>
            </Box>
          ))}
        </Flex>
        {found.data.same && <Text mt={3}>The two are the same, image for image.</Text>}
        <Datasets found={found.data} />
        <Heading>pipeline</Heading>
        {found.data.pipeline.same && <Text color="fg.muted">the same</Text>}
        {found.data.pipeline.changes.map((change) => (
          <Text key={`${change.kind}-${change.step}`}>
            {sayChange(change)}
            <Text as="span" color="fg.muted">
              {["changed", "added"].includes(change.kind) && `: ${change.lines.join(", ")}`}
            </Text>
          </Text>
        ))}
        {Object.keys(found.data.order).length > 0 && <Heading>order</Heading>}
        {Object.entries(found.data.order).map(([name, values]) => (
          <Text key={name}>
            {name} {(values as unknown[]).map((value) => (value === null ? "all" : String(value))).join(" | ")}
          </Text>
        ))}
        <Counts found={found.data} />
        <ObjectOutcomes found={found.data} />
      </Box>
      <SourceWall edition={left} dataset={dataset} chosen={source} choose={setSource} />
      <Box width="420px" flex="none" borderLeftWidth="1px" bg="bg.raised" overflowY="auto" px={4} py={3}>
        {source === null ? (
          <Text color="fg.muted">Choose an image to see its variants in both.</Text>
        ) : (
          <>
            <Text fontWeight={600} truncate title={source}>
              {source}
            </Text>
            <Flex gap={4} mt={2}>
              {[left, right].map((edition) => (
                <Variants key={edition.id} edition={edition} source={source} dataset={dataset} />
              ))}
            </Flex>
          </>
        )}
      </Box>
    </Flex>
  );
}

function Datasets({ found }: { found: Difference }) {
  const { dataset } = found;
  const lines: string[] = [];
  const only = dataset.images_only ?? [];
  const side = ["the first", "the second"];
  only.forEach((named, place) => {
    if (named.count) lines.push(`${named.count} images only in ${side[place]}, such as ${named.first[0]}`);
  });
  for (const [what, named] of [
    ["another picture", dataset.pictures],
    ["other labels", dataset.labels],
    ["another split", dataset.splits],
  ] as const) {
    if (named?.count) lines.push(`${named.count} images with ${what}, such as ${named.first[0]}`);
  }
  dataset.classes_only.forEach((names, place) => {
    if (names.length) lines.push(`classes only in ${side[place]}: ${names.join(", ")}`);
  });
  return (
    <>
      <Heading>dataset</Heading>
      {dataset.same ? <Text color="fg.muted">the same snapshot</Text> : <Text>{dataset.names.join(" | ")}</Text>}
      {lines.map((line) => (
        <Text key={line}>{line}</Text>
      ))}
    </>
  );
}

type Counted = Record<string, { images: [number, number]; objects: [number, number]; classes: Record<string, [number, number]> }>;

function Counts({ found }: { found: Difference }) {
  const rows = Object.entries(found.counts as Counted).flatMap(([split, counts]) => [
    { name: `${saySplit(split)}, images`, values: counts.images, head: true },
    { name: "objects", values: counts.objects, head: false },
    ...Object.entries(counts.classes).map(([name, values]) => ({ name, values, head: false })),
  ]);
  return (
    <>
      <Heading>counts</Heading>
      <Table.Root size="sm" aria-label="Counts of both" css={{ "& td": { px: 0, py: "2px", fontSize: "body" } }}>
        <Table.Body>
          {rows.map(({ name, values: [a, b], head }, place) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: lines of a table that does not change
            <Table.Row key={place} bg="transparent" fontWeight={head ? 600 : 400}>
              <Table.Cell pl={head ? 0 : "12px !important"}>{name}</Table.Cell>
              <Table.Cell textAlign="end">{a}</Table.Cell>
              <Table.Cell textAlign="end">{b}</Table.Cell>
              <Table.Cell textAlign="end" color="fg.muted">
                {b === a ? "" : `${b > a ? "+" : "−"}${Math.abs(b - a)}`}
              </Table.Cell>
            </Table.Row>
          ))}
        </Table.Body>
      </Table.Root>
    </>
  );
}

function ObjectOutcomes({ found }: { found: Difference }) {
  const both = found.statistics as { objects?: { kept: number; clipped: number; dropped: number }; blank_share?: number }[];
  if (!both.every((each) => each.objects)) return null;
  const share = (part: "clipped" | "dropped") =>
    both.map(({ objects }) => {
      const all = (objects?.kept ?? 0) + (objects?.clipped ?? 0) + (objects?.dropped ?? 0);
      return `${((100 * (objects?.[part] ?? 0)) / Math.max(all, 1)).toFixed(1)} %`;
    });
  return (
    <>
      <Heading>labels</Heading>
      <Text>clipped {share("clipped").join(" | ")}</Text>
      <Text>lost {share("dropped").join(" | ")}</Text>
      <Text>blank {both.map((each) => `${(100 * (each.blank_share ?? 0)).toFixed(1)} %`).join(" | ")}</Text>
    </>
  );
}

interface SourceProps {
  edition: Edition;
  dataset: Drawn;
  chosen: string | null;
  choose: (source: string) => void;
}

/** The first edition's images, one variant of each. */
function SourceWall({ edition, dataset, chosen, choose }: SourceProps) {
  const variant = edition.order.originals ? "0" : "1";
  const paged = usePaged<EditionRow>({
    key: ["edition-images", edition.id, edition.output_digest, { variant }],
    fetch: async (offset, count) => {
      const page = await take(
        api.GET("/api/editions/{id}/images", { params: { path: { id: edition.id }, query: { variant, offset, count } } }),
      );
      return { total: page.total, items: page.rows };
    },
    also: null,
  });
  return (
    <Flex direction="column" flex="1" minWidth={0} pt={3}>
      <PagedWall
        name="Images to compare"
        paged={paged}
        tile={(row) => (
          <Box
            as="button"
            display="block"
            aria-label={`Compare ${row.source}`}
            aria-pressed={chosen === row.source}
            outline={chosen === row.source ? "2px solid" : undefined}
            outlineColor="amber.solid"
            onClick={() => choose(row.source)}
          >
            <RowPicture row={row} dataset={dataset} width={Math.min(WALL_TILE, Math.floor((WALL_HIGH * row.width) / row.height))} />
          </Box>
        )}
      />
    </Flex>
  );
}

function Variants({ edition, source, dataset }: { edition: Edition; source: string; dataset: Drawn }) {
  const found = useQuery(askEditionRows(edition, { source, count: 24 }));
  return (
    <Box as="section" aria-label={`Variants in edition ${edition.id}`}>
      <Text color="fg.muted" fontSize="small" mb={1}>
        edition {edition.id}
      </Text>
      {found.data?.total === 0 && <Text color="fg.muted">not in this edition</Text>}
      {found.data?.rows.map((row) => (
        <Box key={row.row} mb={2}>
          <RowPicture row={row} dataset={dataset} width={184} />
          <Text fontSize="caption" color="fg.muted">
            {row.variant ? `variant ${row.variant}` : "original"}
            {row.trace.objects.dropped.length > 0 && `, ${row.trace.objects.dropped.length} lost`}
          </Text>
        </Box>
      ))}
    </Box>
  );
}
