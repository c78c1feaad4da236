import { Box, Button, Checkbox, Field, Flex, Input, Table, Text } from "@chakra-ui/react";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Dataset, type PipelineDocument, take } from "../api/client";
import { askEstimate, askFormats, askLedger, type Order, refresh } from "../api/queries";
import { PageDialog } from "../shell/Dialog";
import { EditionProgress } from "../shell/EditionProgress";
import { NumberField, SelectOne, WishControl } from "../shell/fields";
import { ErrorBox } from "../shell/PageState";
import { may } from "../state/session";
import { orderOf, USUAL_FILES, useView } from "../state/view";
import { percent, sayBytes, saySeconds, saySplit } from "../words/figures";
import { sayName } from "../words/steps";
import { ClassCounts } from "./LedgerBar";

interface Props {
  dataset: Dataset;
  document: PipelineDocument;
  revision: number | null;
  close: () => void;
}

type ImageType = NonNullable<Order["image"]>;
type LabelFormat = Order["format"];

/** Words with what people call them, as a list to choose from shows them. */
const titles = <T extends string>(facts: { name: string; title: string }[]) =>
  Object.fromEntries(facts.map((each) => [each.name, each.title])) as Record<T, string>;

/** What an edition will hold, exactly, before it is made; then how far it is. */
export function EditionDialog({ dataset, document, revision, close }: Props) {
  const client = useQueryClient();
  const edition = useView((view) => view.edition);
  const [name, setName] = useState(`${dataset.name}, ${document.name}`);
  const [image, setImage] = useState<ImageType>(USUAL_FILES.image);
  const [quality, setQuality] = useState<number>(USUAL_FILES.quality);
  const [format, setFormat] = useState<LabelFormat>(USUAL_FILES.format);
  const { formats = [], images = [] } = useQuery(askFormats).data ?? {};
  const coded = formats.find((each) => each.name === format)?.coded ?? true;
  const lossy = coded && (images.find((each) => each.name === image)?.lossy ?? true);
  const [without, setWithout] = useState<string[]>([]);
  const [more, setMore] = useState<Record<string, number>>({});
  const [leaveOut, setLeaveOut] = useState(false);
  const splits = without.length ? dataset.splits.map((row) => row.split).filter((split) => !without.includes(split)) : [];
  const [accepted, setAccepted] = useState<string[]>([]);
  const wished = orderOf(edition);
  const order = { ...wished, format, image, quality, splits, split_variants: more };
  const estimate = useQuery({
    ...askEstimate(dataset, document, order),
    placeholderData: keepPreviousData,
    enabled: without.length < dataset.splits.length,
  });
  const ledger = useQuery(askLedger(dataset, document, wished));
  const make = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/editions", {
          body: {
            name,
            dataset: dataset.id,
            document: { ...document },
            revision,
            leave_out: leaveOut,
            accept_loss: accepted as never,
            ...order,
          },
        }),
      ),
    onSuccess: () => refresh(client, "editions"),
  });
  const lost = estimate.data?.lost ?? [];
  const written = formats.find((each) => each.name === estimate.data?.format)?.title;
  const refused = lost.filter((each) => !accepted.includes(each.kind));
  const total = without.length < dataset.splits.length ? estimate.data?.total : 0;
  const objects = ledger.data ? ledger.data.kept + ledger.data.clipped + ledger.data.dropped : 0;
  const worst = document.steps.find((step) => step.id === ledger.data?.blame[0]?.step);
  if (make.data)
    return (
      <PageDialog title={make.data.name} close={close}>
        <EditionProgress id={make.data.id} />
      </PageDialog>
    );
  return (
    <PageDialog
      title="Make an edition"
      size="lg"
      close={close}
      footer={
        <>
          <Button colorPalette="gray" variant="ghost" size="sm" onClick={close}>
            Cancel
          </Button>
          <Button
            colorPalette="amber"
            size="sm"
            disabled={!may.edit || !total || !name.trim() || refused.length > 0}
            loading={make.isPending}
            onClick={() => make.mutate()}
          >
            {total ? `Make ${total} images` : "Make"}
          </Button>
        </>
      }
    >
      <Flex direction="column" gap={4}>
        <Text color="fg.muted">An edition is the exported dataset: images, labels, and a record from which each can be made again.</Text>
        <Field.Root>
          <Field.Label>Name</Field.Label>
          <Input size="sm" value={name} onChange={(event) => setName(event.target.value)} />
        </Field.Root>
        <Flex gap={6} align="flex-end">
          {coded && (
            <Box>
              <Text fontWeight={500} mb={1}>
                Images as
              </Text>
              <SelectOne name="Image type" value={image} options={titles<ImageType>(images)} width="110px" change={setImage} />
            </Box>
          )}
          {lossy && (
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
            <SelectOne
              name="Label format"
              value={format}
              options={{
                "": `the dataset's own${format === "" && written ? ` (${written})` : ""}`,
                ...titles<Exclude<LabelFormat, "">>(formats.filter((each) => each.writes)),
              }}
              width="210px"
              change={setFormat}
            />
          </Box>
        </Flex>
        <Table.Root size="sm" aria-label="Images per split">
          <Table.Header>
            <Table.Row bg="transparent">
              <Table.ColumnHeader pl={0}>split</Table.ColumnHeader>
              <Table.ColumnHeader textAlign="end">images</Table.ColumnHeader>
              <Table.ColumnHeader colSpan={2}>how many</Table.ColumnHeader>
              <Table.ColumnHeader textAlign="end" pr={0}>
                output images
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
                  <Table.Cell colSpan={training ? 2 : 1}>
                    {training ? (
                      <WishControl each="Variants per image" />
                    ) : (
                      <NumberField
                        label={`Variants of ${saySplit(split)} images`}
                        value={more[split] ?? 0}
                        low={0}
                        high={1000}
                        width="52px"
                        whole
                        change={(value) => setMore({ ...more, [split]: value ?? 0 })}
                      />
                    )}
                  </Table.Cell>
                  {!training && <Table.Cell color="fg.muted">+ original</Table.Cell>}
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
        {ledger.data && <ClassCounts classes={ledger.data.class_objects} />}
        {lost.length > 0 && (
          <Box role="group" aria-label="What is lost" borderLeftWidth="3px" borderColor="loss" pl={3}>
            <Text fontWeight={600} mb={1}>
              {written} can't hold all that the dataset has. Tick what may be lost, or choose another format.
            </Text>
            {lost.map((each) => (
              <Check
                key={each.kind}
                on={accepted.includes(each.kind)}
                label={`lose ${each.says}`}
                change={(on) => setAccepted(on ? [...accepted, each.kind] : accepted.filter((kind) => kind !== each.kind))}
              />
            ))}
          </Box>
        )}
        {ledger.data && objects > 0 && (
          <Text color="fg.muted">
            Of the objects about {percent(ledger.data.clipped / objects)} will be clipped and {percent(ledger.data.dropped / objects)} lost
            {worst && `, most by ${sayName(worst.step)}`}.
          </Text>
        )}
        {estimate.data && estimate.data.bytes > estimate.data.free && (
          <Text color="loss">Not enough disk space: {sayBytes(estimate.data.bytes - estimate.data.free)} more needed.</Text>
        )}
        <Check on={leaveOut} label="skip images that can't be made, and list them" change={setLeaveOut} />
        {(estimate.error ?? make.error) && <ErrorBox error={estimate.error ?? make.error} />}
      </Flex>
    </PageDialog>
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
