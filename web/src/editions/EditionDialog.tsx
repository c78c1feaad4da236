import { Box, Button, Checkbox, Field, Flex, Input, Table, Text } from "@chakra-ui/react";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Dataset, type PipelineDocument, take } from "../api/client";
import { NumberField } from "../bench/controls/NumberField";
import { sayBytes, saySeconds, saySplit } from "../bench/LedgerBar";
import { percent, sayName } from "../bench/values";
import { Choose } from "../shell/Choose";
import { Framed } from "../shell/Framed";
import { Refused } from "../shell/Refused";
import { useView } from "../state/view";
import { EditionProgress } from "./EditionProgress";

interface Props {
  dataset: Dataset;
  document: PipelineDocument;
  revision: number | null;
  close: () => void;
}

const IMAGES = { jpeg: "JPEG", png: "PNG", webp: "WebP" } as const;

type ImageType = keyof typeof IMAGES;

/** What labels can be written as. */
const FORMATS = {
  coco: "COCO",
  voc: "Pascal VOC",
  yolo: "YOLO, boxes",
  "yolo-polygons": "YOLO, polygons",
  "yolo-keypoints": "YOLO, keypoints",
  "mask-pairs": "mask pairs",
  "class-folders": "class folders",
  npz: "NumPy shards",
  "npz-chw": "NumPy, channels first",
  tar: "tar shards",
} as const;

type LabelFormat = keyof typeof FORMATS;

/** What an edition will hold, exactly, before it is made; then how far it is. */
export function EditionDialog({ dataset, document, revision, close }: Props) {
  const client = useQueryClient();
  const edition = useView((view) => view.edition);
  const [name, setName] = useState(`${dataset.name}, ${document.name}`);
  const [image, setImage] = useState<ImageType>("jpeg");
  const [quality, setQuality] = useState(90);
  const [format, setFormat] = useState<LabelFormat>("coco");
  const [without, setWithout] = useState<string[]>([]);
  const [more, setMore] = useState<Record<string, number>>({});
  const [leaveOut, setLeaveOut] = useState(false);
  const splits = without.length ? dataset.splits.map((row) => row.split).filter((split) => !without.includes(split)) : [];
  const order = { ...edition, format, image, quality, splits, split_variants: more };
  const estimate = useQuery({
    queryKey: ["estimate", dataset.id, dataset.digest, document, order],
    queryFn: ({ signal }) =>
      take(api.POST("/api/editions/estimate", { body: { dataset: dataset.id, document: { ...document }, ...order }, signal })),
    placeholderData: keepPreviousData,
    enabled: without.length < dataset.splits.length,
  });
  const ledger = useQuery({
    queryKey: ["ledger", dataset.id, edition, document],
    queryFn: () => take(api.POST("/api/ledger", { body: { dataset: dataset.id, document: { ...document }, ...edition } })),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const make = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/editions", {
          body: { name, dataset: dataset.id, document: { ...document }, revision, leave_out: leaveOut, ...order },
        }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ["editions"] }),
  });
  const total = without.length < dataset.splits.length ? estimate.data?.total : 0;
  const objects = ledger.data ? ledger.data.kept + ledger.data.clipped + ledger.data.dropped : 0;
  const worst = document.steps.find((step) => step.id === ledger.data?.blame[0]?.step);
  if (make.data)
    return (
      <Framed title={make.data.name} close={close}>
        <EditionProgress id={make.data.id} />
      </Framed>
    );
  return (
    <Framed
      title="Make an edition"
      close={close}
      footer={
        <>
          <Button colorPalette="gray" variant="ghost" size="sm" onClick={close}>
            Not now
          </Button>
          <Button colorPalette="amber" size="sm" disabled={!total || !name.trim()} loading={make.isPending} onClick={() => make.mutate()}>
            {total ? `Make ${total} images` : "Make"}
          </Button>
        </>
      }
    >
      <Flex direction="column" gap={4}>
        <Field.Root>
          <Field.Label>Name</Field.Label>
          <Input size="sm" value={name} onChange={(event) => setName(event.target.value)} />
        </Field.Root>
        <Flex gap={6} align="flex-end">
          <Box>
            <Text fontWeight={500} mb={1}>
              Images as
            </Text>
            <Choose name="Image type" value={image} options={IMAGES} width="110px" change={setImage} />
          </Box>
          {image !== "png" && (
            <Box>
              <Text fontWeight={500} mb={1}>
                Quality
              </Text>
              <NumberField label="Quality" value={quality} low={1} high={100} whole change={(value) => setQuality(value ?? 90)} />
            </Box>
          )}
          <Box>
            <Text fontWeight={500} mb={1}>
              Labels as
            </Text>
            <Choose name="Label format" value={format} options={FORMATS} width="150px" change={setFormat} />
          </Box>
        </Flex>
        <Table.Root size="sm" aria-label="Images per split">
          <Table.Header>
            <Table.Row bg="transparent">
              <Table.ColumnHeader pl={0}>split</Table.ColumnHeader>
              <Table.ColumnHeader textAlign="end">images</Table.ColumnHeader>
              <Table.ColumnHeader>variants of each</Table.ColumnHeader>
              <Table.ColumnHeader>original</Table.ColumnHeader>
              <Table.ColumnHeader textAlign="end" pr={0}>
                come out
              </Table.ColumnHeader>
            </Table.Row>
          </Table.Header>
          <Table.Body>
            {dataset.splits.map(({ split, images }) => {
              const on = !without.includes(split);
              const training = split === "train";
              return (
                <Table.Row key={split} bg="transparent">
                  <Table.Cell pl={0}>
                    <Check
                      on={on}
                      label={saySplit(split)}
                      change={() => setWithout(on ? [...without, split] : without.filter((each) => each !== split))}
                    />
                  </Table.Cell>
                  <Table.Cell textAlign="end">{images}</Table.Cell>
                  <Table.Cell>
                    <NumberField
                      label={training ? "Variants per image" : `Variants of ${saySplit(split)} images`}
                      value={training ? edition.variants : (more[split] ?? 0)}
                      low={0}
                      high={1000}
                      width="64px"
                      whole
                      change={(value) =>
                        training
                          ? useView.setState({ edition: { ...edition, variants: value ?? 0 } })
                          : setMore({ ...more, [split]: value ?? 0 })
                      }
                    />
                  </Table.Cell>
                  <Table.Cell color="fg.muted">
                    {training ? (
                      <Check
                        on={edition.originals}
                        label="too"
                        name="the originals too"
                        change={(originals) => useView.setState({ edition: { ...edition, originals } })}
                      />
                    ) : (
                      "always"
                    )}
                  </Table.Cell>
                  <Table.Cell textAlign="end" pr={0}>
                    {on ? (estimate.data?.counts[split] ?? "…") : "–"}
                  </Table.Cell>
                </Table.Row>
              );
            })}
            <Table.Row bg="transparent" fontWeight={650}>
              <Table.Cell pl={0}>all</Table.Cell>
              <Table.Cell color="fg.muted" fontWeight={400} data-testid="size" colSpan={3}>
                {estimate.data &&
                  `about ${sayBytes(estimate.data.bytes)}, ${saySeconds(estimate.data.seconds)}; ${sayBytes(estimate.data.free)} free`}
              </Table.Cell>
              <Table.Cell textAlign="end" pr={0} data-testid="total">
                {total ?? "…"}
              </Table.Cell>
            </Table.Row>
          </Table.Body>
        </Table.Root>
        {Object.values(more).some(Boolean) && (
          <Text color="fg.muted">
            Images that are not for training go through the evaluation line; variants of them differ only where its steps draw.
          </Text>
        )}
        {ledger.data && objects > 0 && (
          <Text color="fg.muted">
            Of the objects about {percent(ledger.data.clipped / objects)} will be clipped and {percent(ledger.data.dropped / objects)} lost
            {worst && `, most by ${sayName(worst.step)}`}.
          </Text>
        )}
        {estimate.data && estimate.data.bytes > estimate.data.free && (
          <Text color="loss">There is not room enough: {sayBytes(estimate.data.bytes - estimate.data.free)} are missing.</Text>
        )}
        <Check on={leaveOut} label="go on without images that can't be made, and list them" change={setLeaveOut} />
        {(estimate.error ?? make.error) && <Refused error={estimate.error ?? make.error} />}
      </Flex>
    </Framed>
  );
}

interface CheckProps {
  on: boolean;
  label: string;
  /** What it is called where the label alone does not say it. */
  name?: string;
  change: (on: boolean) => void;
}

function Check({ on, label, name, change }: CheckProps) {
  return (
    <Checkbox.Root size="sm" checked={on} onCheckedChange={({ checked }) => change(checked === true)}>
      <Checkbox.HiddenInput aria-label={name} />
      <Checkbox.Control />
      <Checkbox.Label>{label}</Checkbox.Label>
    </Checkbox.Root>
  );
}
