import { Box, Button, Checkbox, Flex, Text } from "@chakra-ui/react";
import { useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Dataset, type PipelineDocument, take } from "../api/client";
import { askInquiries, askPipeline, askPipelines, refresh } from "../api/queries";
import { PageDialog } from "../shell/Dialog";
import { NumberField } from "../shell/fields";
import { ErrorBox } from "../shell/PageState";
import { may } from "../state/session";
import { toldApart } from "../words/figures";
import { InquiryProgress } from "./InquiryProgress";
import { ProbeView } from "./ProbeView";
import type { ProbeResult } from "./results";

interface Props {
  dataset: Dataset;
  /** The bench's pipeline as it stands. */
  document: PipelineDocument;
  close: () => void;
}

/** Does it help? A small network trained with the bench's pipeline, with others, and with none. */
export function ProbeDialog({ dataset, document, close }: Props) {
  const client = useQueryClient();
  const pipelines = useQuery(askPipelines);
  const before = useQuery(askInquiries("probe", dataset.id));
  const [also, setAlso] = useState<number[]>([]);
  const [seeds, setSeeds] = useState(3);
  /** About how long all may take; null for as long as it is usually worth. */
  const [minutes, setMinutes] = useState<number | null>(null);
  const [open, setOpen] = useState<number | null>(null);
  const others = (pipelines.data ?? []).filter((each) => each.name !== document.name);
  const documents = useQueries({
    queries: others.filter((each) => also.includes(each.id)).map((each) => askPipeline(each.id, each.latest)),
  });
  const ready = documents.every((each) => each.data);
  const start = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/probes", {
          body: {
            dataset: dataset.id,
            documents: [{ ...document }, ...documents.flatMap((each) => (each.data ? [{ ...(each.data.document as object) }] : []))],
            seeds,
            minutes,
          },
        }),
      ),
    onSuccess: (made) => {
      setOpen(made.id);
      void refresh(client, "inquiries");
    },
  });
  const names = toldApart(others);
  const shown = open ?? before.data?.[0]?.id ?? null;
  return (
    <PageDialog title="Does it help?" size="cover" scrolls close={close}>
      <Flex align="center" gap={4} wrap="wrap" mb={2}>
        <Text>
          on <b>{dataset.name}</b>: no augmentation, <b>{document.name}</b>
          {others.length > 0 && ", and"}
        </Text>
        {others.map((each) => (
          <Checkbox.Root
            key={each.id}
            size="sm"
            checked={also.includes(each.id)}
            onCheckedChange={() => setAlso(also.includes(each.id) ? also.filter((id) => id !== each.id) : [...also, each.id])}
          >
            <Checkbox.HiddenInput />
            <Checkbox.Control />
            <Checkbox.Label>{names.get(each.id)}</Checkbox.Label>
          </Checkbox.Root>
        ))}
        <Flex align="center" gap={2}>
          <Text color="fg.muted">seeds</Text>
          <NumberField label="Seeds" value={seeds} low={1} high={30} change={(count) => setSeeds(count ?? 3)} />
        </Flex>
        <Flex align="center" gap={2}>
          <Text color="fg.muted">minutes</Text>
          <NumberField label="Minutes" value={minutes} low={0.2} high={600} optional change={setMinutes} />
        </Flex>
        <Button size="sm" colorPalette="amber" disabled={!ready || !may.edit} loading={start.isPending} onClick={() => start.mutate()}>
          Probe
        </Button>
      </Flex>
      <Text color="fg.muted" fontSize="small" mb={4}>
        A small network is trained on the training split with each of them, equally long, and judged on untouched validation pictures. It
        takes a few minutes, or about as many as you say: longer training tells smaller differences. It continues when this is closed;
        results are kept under <Link to="/trials">Trials</Link>.
      </Text>
      {start.error && <ErrorBox error={start.error} />}
      {shown !== null && (
        <Box>
          <InquiryProgress id={shown}>{(inquiry) => <ProbeView found={inquiry.result as unknown as ProbeResult} />}</InquiryProgress>
        </Box>
      )}
    </PageDialog>
  );
}
