import { Box, Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { askFormats, askOverview } from "../api/queries";
import { classColor } from "../picture/draw-labels";
import { DeleteDataset } from "../shell/Dialog";
import { Bars, Heading, NarrowPanel } from "../shell/NarrowPanel";
import { OneState } from "../shell/PageState";
import { ViewTools } from "../shell/views";
import { byWhom } from "../state/session";
import { counted, sayCounts, saySplit } from "../words/figures";
import { BoxGrid } from "./BoxGrid";
import { FindingsPanel } from "./FindingsPanel";
import { Levels } from "./Levels";
import { Marks } from "./Marks";
import { OpenOnBench } from "./NextSteps";
import { Plot } from "./Plot";
import { type Filter, Wall } from "./Wall";

/** One dataset: a wall of its images, what they can be narrowed by, and what looks wrong. */
export function DatasetPage() {
  const id = Number(useParams().id);
  const [filter, setFilter] = useState<Filter>({});
  const overview = useQuery({
    ...askOverview(id),
    refetchInterval: ({ state }) => (state.data?.examining ? 1000 : false),
  });
  const formats = useQuery(askFormats);
  if (overview.error || !overview.data) return <OneState asked={overview} what={`dataset ${id}`} back="/datasets" all="All datasets" />;
  const { dataset, classes } = overview.data;
  const title = formats.data?.formats.find((each) => each.name === dataset.format)?.reading_title ?? dataset.format;
  const change = (part: Partial<Filter>) => setFilter({ ...filter, ...part });
  return (
    <Flex height="100%">
      <ViewTools>
        <Text fontWeight={650} truncate flex="none" maxWidth="320px" title={dataset.name}>
          {dataset.name}
        </Text>
        <Text color="fg.muted" ml={3} truncate minWidth={0}>
          {sayCounts(Object.fromEntries(dataset.splits.map((split) => [split.split, split.images])))} images · read as {title}
          {byWhom(dataset.made_by)}
        </Text>
        <Flex ml="auto" mr={3} gap={2}>
          <DeleteDataset dataset={dataset} />
          <OpenOnBench dataset={dataset.id} />
        </Flex>
      </ViewTools>
      <NarrowPanel width="226px" name={filter.name} setName={(name) => change({ name })}>
        <Heading>splits, images</Heading>
        <Bars
          bins={dataset.splits.map((split) => ({ name: split.split, count: split.images }))}
          say={saySplit}
          on={filter.split}
          choose={(split) => change({ split })}
        />
        {classes.length > 0 && (
          <>
            <Heading>classes, labels</Heading>
            <Bars
              bins={classes.map((each) => ({
                name: each.name,
                count: each.total,
                color: classColor(dataset.classes, each.name),
                title: Object.entries(each.splits)
                  .map(([split, count]) => `${saySplit(split)} ${count}`)
                  .join(", "),
              }))}
              on={filter.class}
              choose={(name) => change({ class: name })}
            />
            <Marks dataset={dataset} />
          </>
        )}
        {overview.data.sides.length > 0 && (
          <>
            <Heading>box width and height; drag over an area</Heading>
            <BoxGrid grid={overview.data.boxes} on={filter} choose={(area) => change(area ?? { width: undefined, height: undefined })} />
            <Heading>object side</Heading>
            <Plot
              name="object side"
              of="object"
              unit="√(width × height), px"
              bins={overview.data.sides}
              on={filter.side}
              say={(bin) => `${counted(bin.count, "object")}, ${Math.round(bin.low)} to ${Math.round(bin.high)} px`}
              choose={(side) => change({ side })}
            />
            <Heading>width over height</Heading>
            <Plot
              name="width over height"
              of="object"
              unit="times as wide as high"
              bins={overview.data.aspects}
              on={filter.aspect}
              say={(bin) => `${counted(bin.count, "object")}, ${bin.low} to ${bin.high} × as wide`}
              choose={(aspect) => change({ aspect })}
            />
            <Heading>objects in an image</Heading>
            <Plot
              name="objects in an image"
              of="image"
              unit="objects"
              bins={overview.data.objects}
              on={filter.objects}
              say={(bin) => `${counted(bin.count, "image")} with ${counted(bin.low, "object")}`}
              choose={(objects) => change({ objects })}
            />
          </>
        )}
        {overview.data.visibility.length > 0 && (
          <>
            <Heading>keypoints not visible, objects</Heading>
            <Bars
              bins={overview.data.visibility.map(({ name, visible, hidden, absent }) => ({
                name: `${name}:${hidden >= absent ? "hidden" : "absent"}`,
                count: Math.max(hidden, absent),
                title: `${visible} visible, ${hidden} hidden, ${absent} absent`,
              }))}
              say={(name) => name.replace(":", ", ")}
              on={filter.keypoint}
              choose={(keypoint) => change({ keypoint })}
            />
          </>
        )}
        <Heading>image size, px</Heading>
        <Bars bins={overview.data.sizes} on={filter.size} choose={(size) => change({ size })} />
        <Heading>files</Heading>
        <Bars bins={overview.data.kinds} on={filter.kind} choose={(kind) => change({ kind })} />
        <Heading>pixel values</Heading>
        {overview.data.levels.length === 3 ? (
          <Levels {...overview.data} />
        ) : (
          <Text fontSize="small" color="fg.muted">
            {overview.data.examining
              ? `pictures are being decoded, ${overview.data.examined} so far`
              : "counted when the pictures are decoded"}
          </Text>
        )}
        {overview.data.label_map.length > 0 && (
          <>
            <Heading>label maps</Heading>
            <Text fontSize="body">{overview.data.label_map.join(" · ")}</Text>
          </>
        )}
      </NarrowPanel>
      <Wall dataset={dataset} filter={filter} clear={() => setFilter({})} />
      <Box width="340px" flex="none" borderLeftWidth="1px" bg="bg.raised" overflowY="auto">
        <FindingsPanel
          id={id}
          examining={overview.data.examining}
          shown={filter.finding}
          show={(finding) => setFilter(finding ? { finding } : {})}
        />
      </Box>
    </Flex>
  );
}
