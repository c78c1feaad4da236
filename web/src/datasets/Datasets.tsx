import { Box, Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Dataset, take } from "../api/client";
import { sayCounts } from "../bench/LedgerBar";
import { askDatasets } from "../bench/questions";
import { SourceTile } from "../bench/TileView";
import { Refused } from "../shell/Refused";
import { ViewTools } from "../shell/ViewTools";
import { BringIn } from "./BringIn";
import { OnTheBench } from "./OnTheBench";

const STRIP = 5;
const TILE = 184;

/** Every dataset with a strip of its images; bring one in. */
export function Datasets() {
  const datasets = useQuery(askDatasets);
  return (
    <Box height="100%" overflowY="auto" px={6} py={5}>
      <ViewTools>
        <Text color="fg.muted">
          {datasets.data ? `${datasets.data.length} ${datasets.data.length === 1 ? "dataset" : "datasets"}` : ""}
        </Text>
      </ViewTools>
      <BringIn />
      {datasets.error && <Refused error={datasets.error} />}
      {datasets.data?.map((dataset) => (
        <DatasetStrip key={dataset.id} dataset={dataset} />
      ))}
    </Box>
  );
}

function DatasetStrip({ dataset }: { dataset: Dataset }) {
  const rows = useQuery({
    queryKey: ["rows", dataset.id, "spread", 0, STRIP],
    queryFn: () =>
      take(api.GET("/api/datasets/{id}/rows", { params: { path: { id: dataset.id }, query: { pick: "spread", count: STRIP } } })),
  });
  return (
    <Box as="article" aria-label={dataset.name} pb={6} mb={6} borderBottomWidth="1px" maxWidth="1010px">
      <Flex align="baseline" gap={4} mb={1}>
        <Text as="h2" fontWeight={650} fontSize="16px">
          <Link to={`/datasets/${dataset.id}`} style={{ textDecoration: "underline", textUnderlineOffset: "3px" }}>
            {dataset.name}
          </Link>
        </Text>
        <Text>{sayCounts(Object.fromEntries(dataset.splits.map((split) => [split.split, split.images])))} images</Text>
        <Text color="fg.muted">{dataset.splits.reduce((sum, split) => sum + split.objects, 0)} objects</Text>
        <Box ml="auto">
          <OnTheBench dataset={dataset.id} />
        </Box>
      </Flex>
      <Text color="fg.muted" mb={3}>
        {dataset.classes.join(" · ")}
      </Text>
      <Flex gap="10px" align="flex-start" wrap="wrap">
        {rows.data?.map((image) => (
          <SourceTile key={image.id} image={image} tileWidth={TILE} dataset={dataset} />
        ))}
      </Flex>
    </Box>
  );
}
