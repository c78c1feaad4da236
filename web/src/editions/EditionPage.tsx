import { Box, Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Edition } from "../api/client";
import { askDatasets, askEdition, askEditionRows } from "../api/queries";
import { classColor } from "../picture/draw-labels";
import { EditionProgress } from "../shell/EditionProgress";
import { Bars, Heading, NarrowPanel } from "../shell/NarrowPanel";
import { OneState } from "../shell/PageState";
import { ViewTools } from "../shell/views";
import { inOrder, saySplit } from "../words/figures";
import { EditionFacts } from "./EditionFacts";
import { type Drawn, EditionWall, type RowFilter, stepName } from "./EditionWall";

/** One edition: its images, what it is made from, what it holds, and what came of training on it. */
export function EditionPage() {
  const id = Number(useParams().id);
  const [filter, setFilter] = useState<RowFilter>({});
  const found = useQuery({
    ...askEdition(id),
    refetchInterval: ({ state }) =>
      state.data?.check_state.state === "checking" || state.data?.copy_state.state === "copying" ? 700 : false,
  });
  const datasets = useQuery(askDatasets);
  if (found.error || !found.data) return <OneState asked={found} what={`edition ${id}`} back="/editions" all="All editions" />;
  const edition = found.data as Edition;
  const first = countsOf(edition)[0]?.[1];
  const classes = [...new Set([...Object.keys(first?.classes ?? {}), ...Object.keys(first?.image_classes ?? {})])];
  const dataset: Drawn = datasets.data?.find((each) => each.id === edition.dataset) ?? { classes, lines: [] };
  const change = (part: Partial<RowFilter>) => setFilter({ ...filter, ...part });
  return (
    <Flex height="100%">
      <ViewTools>
        <Text fontWeight={650} truncate>
          {edition.name}
        </Text>
        <Text color="fg.muted" ml={3} whiteSpace="nowrap">
          edition {edition.id}
        </Text>
      </ViewTools>
      {edition.state === "done" ? (
        <>
          <Filters edition={edition} classes={dataset.classes ?? classes} filter={filter} change={change} />
          <EditionWall edition={edition} dataset={dataset} filter={filter} clear={() => setFilter({})} />
          <EditionFacts edition={edition} dataset={datasets.data?.find((each) => each.id === edition.dataset)} />
        </>
      ) : (
        <Box p={6} width="520px">
          <EditionProgress id={edition.id} />
          <Text mt={6} color="fg.muted">
            <Link to="/editions">All editions</Link>
          </Text>
        </Box>
      )}
    </Flex>
  );
}

export interface SplitCount {
  images: number;
  objects: number;
  classes: Record<string, number>;
  /** Images by what they show as a whole. */
  image_classes?: Record<string, number>;
}

/** Whether an edition's labels are on objects; else they are on whole images. */
export const hasObjects = (edition: Edition) => countsOf(edition).some(([, split]) => split.objects > 0);

/** How many objects and images a split has of a class. */
export const ofClass = (split: SplitCount, name: string) => (split.classes[name] ?? 0) + (split.image_classes?.[name] ?? 0);

/** How many objects and images with a class of their own a split has. */
export const labelled = (split: SplitCount) =>
  split.objects + Object.values(split.image_classes ?? {}).reduce((sum, count) => sum + count, 0);

/** An edition's counts per split, in their usual order. */
export function countsOf(edition: Edition): [string, SplitCount][] {
  return inOrder(edition.counts as Record<string, SplitCount>);
}

interface FilterProps {
  edition: Edition;
  classes: readonly string[];
  filter: RowFilter;
  change: (part: Partial<RowFilter>) => void;
}

function Filters({ edition, classes, filter, change }: FilterProps) {
  const counts = countsOf(edition);
  const facets = useQuery(askEditionRows(edition, { count: 1 }));
  const objects = classes.map((name) => ({
    name,
    count: counts.reduce((sum, [, split]) => sum + ofClass(split, name), 0),
    color: classColor(classes, name),
  }));
  return (
    <NarrowPanel width="206px" name={filter.name} setName={(name) => change({ name })}>
      <Heading>splits, images</Heading>
      <Bars
        bins={counts.map(([name, split]) => ({ name, count: split.images }))}
        say={saySplit}
        on={filter.split}
        choose={(split) => change({ split })}
      />
      {facets.data && (
        <>
          {facets.data.steps.length > 0 && <Heading>steps applied</Heading>}
          <Bars bins={facets.data.steps} say={(id) => stepName(edition, id)} on={filter.step} choose={(step) => change({ step })} />
          {hasObjects(edition) && (
            <>
              <Heading>objects</Heading>
              <Bars
                bins={[
                  { name: "1", count: facets.data.lost },
                  { name: "0", count: edition.total - facets.data.lost },
                ]}
                say={(lost) => (lost === "1" ? "some lost" : "none lost")}
                on={filter.lost}
                choose={(lost) => change({ lost: lost as RowFilter["lost"] })}
              />
            </>
          )}
        </>
      )}
      <Heading>{hasObjects(edition) ? "classes, objects" : "classes, images"}</Heading>
      <Bars bins={objects} on={filter.class} choose={(name) => change({ class: name })} />
      {facets.data && (
        <>
          <Heading>variants</Heading>
          <Bars
            bins={facets.data.variants}
            say={(variant) => (variant === "0" ? "original" : variant)}
            on={filter.variant}
            choose={(variant) => change({ variant })}
          />
        </>
      )}
    </NarrowPanel>
  );
}
