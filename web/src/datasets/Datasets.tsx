import { Box, Button, Flex, Spinner, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Upload } from "lucide-react";
import { useRef, useState } from "react";
import { api, type Dataset, type LabelObject, Refusal, take } from "../api/client";
import { sayCounts } from "../bench/LedgerBar";
import { pictureWidth, TileView } from "../bench/TileView";
import { Refused } from "../shell/Refused";
import { ViewTools } from "../shell/ViewTools";

const STRIP = 5;
const TILE = 184;

/** Every dataset with a strip of its images; bring one in as a zip. */
export function Datasets() {
  const datasets = useQuery({ queryKey: ["datasets"], queryFn: () => take(api.GET("/api/datasets")) });
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

function BringIn() {
  const client = useQueryClient();
  const chooser = useRef<HTMLInputElement>(null);
  const [over, setOver] = useState(false);
  const upload = useMutation({
    mutationFn: async (file: File) => {
      const body = new FormData();
      body.append("file", file);
      const answer = await fetch("/api/datasets/upload", { method: "POST", body });
      const said = await answer.json();
      if (!answer.ok) throw new Refusal(said.message, said.problems ?? [], answer.status);
      return said as Dataset;
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["datasets"] }),
  });
  return (
    <Box
      role="group"
      aria-label="Bring a dataset in"
      borderWidth="1px"
      borderStyle="dashed"
      borderColor={over ? "amber.solid" : "border"}
      borderRadius="4px"
      px={4}
      py={4}
      mb={6}
      maxWidth="1010px"
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        event.preventDefault();
        setOver(false);
        const file = event.dataTransfer.files[0];
        if (file) upload.mutate(file);
      }}
    >
      <Flex align="center" gap={4}>
        <Button size="sm" variant="outline" onClick={() => chooser.current?.click()} disabled={upload.isPending}>
          {upload.isPending ? <Spinner size="xs" /> : <Upload size={14} />} Bring a dataset in
        </Button>
        <Text color="fg.muted">
          {upload.isPending
            ? "reading and checking every picture …"
            : "Drop a zip here: COCO labels in annotations/*.json, pictures beside them."}
        </Text>
        <input
          ref={chooser}
          type="file"
          accept=".zip"
          hidden
          aria-label="Dataset zip"
          onChange={(event) => {
            const file = event.target.files?.[0];
            if (file) upload.mutate(file);
            event.target.value = "";
          }}
        />
      </Flex>
      {upload.error && (
        <Box mt={3}>
          <Refused error={upload.error}>
            <Text color="fg.muted">Nothing was brought in.</Text>
          </Refused>
        </Box>
      )}
      {upload.data && (
        <Text mt={3} role="status">
          {upload.data.name} is here: {sayCounts(Object.fromEntries(upload.data.splits.map((split) => [split.split, split.images])))}{" "}
          images.
        </Text>
      )}
    </Box>
  );
}

function DatasetStrip({ dataset }: { dataset: Dataset }) {
  const rows = useQuery({
    queryKey: ["rows", dataset.id, "spread", 0, STRIP],
    queryFn: () =>
      take(api.GET("/api/datasets/{id}/rows", { params: { path: { id: dataset.id }, query: { pick: "spread", count: STRIP } } })),
  });
  const width = pictureWidth(TILE);
  return (
    <Box as="article" aria-label={dataset.name} pb={6} mb={6} borderBottomWidth="1px" maxWidth="1010px">
      <Flex align="baseline" gap={4} mb={1}>
        <Text as="h2" fontWeight={650} fontSize="16px">
          {dataset.name}
        </Text>
        <Text>{sayCounts(Object.fromEntries(dataset.splits.map((split) => [split.split, split.images])))} images</Text>
        <Text color="fg.muted">{dataset.splits.reduce((sum, split) => sum + split.objects, 0)} objects</Text>
      </Flex>
      <Text color="fg.muted" mb={3}>
        {dataset.classes.join(" · ")}
      </Text>
      <Flex gap="10px" align="flex-start" wrap="wrap">
        {rows.data?.map((image) => (
          <TileView
            key={image.id}
            row={image.id}
            label={image.key}
            tileWidth={TILE}
            dataset={dataset}
            stale={false}
            picture={`/api/pictures/${image.sha256}/${width}.jpg`}
            width={image.width}
            height={image.height}
            objects={image.objects_json as LabelObject[]}
          />
        ))}
      </Flex>
    </Box>
  );
}
