import { Box, Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Dataset } from "../api/client";
import { askDatasets, askRows } from "../api/queries";
import { SourceTile } from "../picture/TileView";
import { DeleteDataset } from "../shell/Dialog";
import { ListState } from "../shell/PageState";
import { May, ViewTools } from "../shell/views";
import { counted, sayCounts } from "../words/figures";
import { ImportForm } from "./ImportForm";
import { OpenOnBench } from "./NextSteps";

/** As many as a wide screen has room for. */
const STRIP = 9;
const TILE = 184;

/** Every dataset with a strip of its images, the newest first; bring one in. */
export function Datasets() {
  const datasets = useQuery(askDatasets);
  return (
    <Box height="100%" overflowY="auto" px={6} py={5}>
      <ViewTools>
        <Text color="fg.muted">{datasets.data ? counted(datasets.data.length, "dataset") : ""}</Text>
      </ViewTools>
      <May to="edit">
        <ImportForm />
      </May>
      <ListState asked={datasets} what="the datasets" />
      {datasets.data?.toReversed().map((dataset) => (
        <DatasetStrip key={dataset.id} dataset={dataset} />
      ))}
    </Box>
  );
}

function DatasetStrip({ dataset }: { dataset: Dataset }) {
  const rows = useQuery(askRows(dataset, { pick: "spread", count: STRIP }));
  return (
    <Box as="article" aria-label={dataset.name} pb={6} mb={6} borderBottomWidth="1px">
      <Flex align="baseline" gap={4} mb={1}>
        <Text as="h2" fontWeight={650} fontSize="heading">
          <Link to={`/datasets/${dataset.id}`} style={{ textDecoration: "underline", textUnderlineOffset: "3px" }}>
            {dataset.name}
          </Link>
        </Text>
        <Text>{sayCounts(Object.fromEntries(dataset.splits.map((split) => [split.split, split.images])))} images</Text>
        <Text color="fg.muted">{dataset.splits.reduce((sum, split) => sum + split.objects, 0)} objects</Text>
        {dataset.made_by && <Text color="fg.muted">imported by {dataset.made_by}</Text>}
        <Flex ml="auto" gap={2}>
          <OpenOnBench dataset={dataset.id} />
          <DeleteDataset dataset={dataset} />
        </Flex>
      </Flex>
      <Text color="fg.muted" mb={3}>
        {dataset.classes.join(" · ")}
      </Text>
      <Flex gap="10px" align="flex-start" overflow="hidden">
        {rows.data?.map((image) => (
          <SourceTile key={image.id} image={image} tileWidth={TILE} dataset={dataset} />
        ))}
      </Flex>
    </Box>
  );
}
