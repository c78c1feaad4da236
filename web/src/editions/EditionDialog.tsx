import { Box, Button, Checkbox, CloseButton, Dialog, Field, Flex, Input, NativeSelect, Portal, Table, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Dataset, type PipelineDocument, take } from "../api/client";
import { NumberField } from "../bench/controls/NumberField";
import { sayBytes, saySplit } from "../bench/LedgerBar";
import { Refused } from "../shell/Refused";
import { useView } from "../state/view";
import { EditionProgress } from "./EditionProgress";

interface Props {
  dataset: Dataset;
  document: PipelineDocument;
  revision: number | null;
  close: () => void;
}

type ImageType = "jpeg" | "png" | "webp";

/** What an edition will hold, exactly, before it is made; then how far it is. */
export function EditionDialog({ dataset, document, revision, close }: Props) {
  const client = useQueryClient();
  const edition = useView((view) => view.edition);
  const [name, setName] = useState(`${dataset.name}, ${document.name}`);
  const [image, setImage] = useState<ImageType>("jpeg");
  const [quality, setQuality] = useState(90);
  const ledger = useQuery({
    queryKey: ["ledger", dataset.id, edition, document],
    queryFn: () => take(api.POST("/api/ledger", { body: { dataset: dataset.id, document: { ...document }, ...edition } })),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const make = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/editions", {
          body: { name, dataset: dataset.id, document: { ...document }, revision, ...edition, format: "coco", image, quality },
        }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ["editions"] }),
  });
  const total = ledger.data?.total;
  return (
    <Dialog.Root open onOpenChange={(change) => !change.open && close()} size="md">
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content>
            <Dialog.Header pb={2}>
              <Dialog.Title>{make.data ? make.data.name : "Make an edition"}</Dialog.Title>
            </Dialog.Header>
            {make.data ? (
              <Dialog.Body pb={5}>
                <EditionProgress id={make.data.id} />
              </Dialog.Body>
            ) : (
              <>
                <Dialog.Body display="flex" flexDirection="column" gap={4}>
                  <Field.Root>
                    <Field.Label>Name</Field.Label>
                    <Input size="sm" value={name} onChange={(event) => setName(event.target.value)} />
                  </Field.Root>
                  <Flex gap={6} align="flex-end">
                    <Box>
                      <Text fontWeight={500} mb={1}>
                        Variants of each training image
                      </Text>
                      <NumberField
                        label="Variants per image"
                        value={edition.variants}
                        low={0}
                        high={1000}
                        whole
                        change={(value) => useView.setState({ edition: { ...edition, variants: value ?? 0 } })}
                      />
                    </Box>
                    <Checkbox.Root
                      size="sm"
                      pb={1}
                      checked={edition.originals}
                      onCheckedChange={({ checked }) => useView.setState({ edition: { ...edition, originals: checked === true } })}
                    >
                      <Checkbox.HiddenInput />
                      <Checkbox.Control />
                      <Checkbox.Label>the originals too</Checkbox.Label>
                    </Checkbox.Root>
                  </Flex>
                  <Flex gap={6} align="flex-end">
                    <Box>
                      <Text fontWeight={500} mb={1}>
                        Images as
                      </Text>
                      <NativeSelect.Root size="xs" width="110px">
                        <NativeSelect.Field
                          aria-label="Image type"
                          value={image}
                          onChange={(event) => setImage(event.target.value as ImageType)}
                        >
                          <option value="jpeg">JPEG</option>
                          <option value="png">PNG</option>
                          <option value="webp">WebP</option>
                        </NativeSelect.Field>
                        <NativeSelect.Indicator />
                      </NativeSelect.Root>
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
                      <Text height="26px">COCO</Text>
                    </Box>
                  </Flex>
                  <Table.Root size="sm" aria-label="Images per split">
                    <Table.Body>
                      {Object.entries(ledger.data?.counts ?? {}).map(([split, count]) => (
                        <Table.Row key={split} bg="transparent">
                          <Table.Cell pl={0}>{saySplit(split)}</Table.Cell>
                          <Table.Cell color="fg.muted">
                            {split === "train"
                              ? `${dataset.splits.find((row) => row.split === split)?.images} × (${edition.variants} variants${edition.originals ? " + original" : ""})`
                              : "evaluation line only"}
                          </Table.Cell>
                          <Table.Cell textAlign="end" pr={0}>
                            {count}
                          </Table.Cell>
                        </Table.Row>
                      ))}
                      <Table.Row bg="transparent" fontWeight={650}>
                        <Table.Cell pl={0}>all</Table.Cell>
                        <Table.Cell color="fg.muted" fontWeight={400}>
                          {ledger.data && image === "jpeg" && quality === 90 ? `about ${sayBytes(ledger.data.bytes)}` : ""}
                        </Table.Cell>
                        <Table.Cell textAlign="end" pr={0} data-testid="total">
                          {total ?? "…"}
                        </Table.Cell>
                      </Table.Row>
                    </Table.Body>
                  </Table.Root>
                  {make.error && <Refused error={make.error} />}
                </Dialog.Body>
                <Dialog.Footer>
                  <Button colorPalette="gray" variant="ghost" size="sm" onClick={close}>
                    Not now
                  </Button>
                  <Button
                    colorPalette="amber"
                    size="sm"
                    disabled={!total || !name.trim()}
                    loading={make.isPending}
                    onClick={() => make.mutate()}
                  >
                    {total ? `Make ${total} images` : "Make"}
                  </Button>
                </Dialog.Footer>
              </>
            )}
            <Dialog.CloseTrigger asChild>
              <CloseButton colorPalette="gray" size="sm" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}
