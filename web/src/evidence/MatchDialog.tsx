import { Box, Button, Flex, NativeSelect, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Dataset, type PipelineDocument, take } from "../api/client";
import { askDatasets, askInquiries, refresh } from "../api/queries";
import { PageDialog } from "../shell/Dialog";
import { ErrorBox } from "../shell/PageState";
import { useDraft } from "../state/draft";
import { may } from "../state/session";
import { toldApart } from "../words/figures";
import { InquiryProgress } from "./InquiryProgress";
import { MatchView } from "./MatchView";
import type { MatchResult, SuggestedStep } from "./results";

interface Props {
  dataset: Dataset;
  document: PipelineDocument;
  close: () => void;
}

/** Match the field: do the bench's variants look like the pictures a model will meet, and which steps would make them? */
export function MatchDialog({ dataset, document, close }: Props) {
  const client = useQueryClient();
  const datasets = useQuery(askDatasets);
  const before = useQuery(askInquiries("match", dataset.id));
  const others = (datasets.data ?? []).filter((each) => each.id !== dataset.id);
  const [field, setField] = useState<number | null>(null);
  const [open, setOpen] = useState<number | null>(null);
  // Pictures without labels are what a field usually is.
  const chosen = field ?? (others.find((each) => /field/i.test(each.name)) ?? others[0])?.id ?? null;
  const shown = open ?? before.data?.[0]?.id ?? null;
  const start = useMutation({
    mutationFn: () => take(api.POST("/api/matches", { body: { dataset: dataset.id, field: chosen ?? 0, document: { ...document } } })),
    onSuccess: (made) => {
      setOpen(made.id);
      void refresh(client, "inquiries");
    },
  });
  const place = useMutation({
    mutationFn: (steps: SuggestedStep[]) =>
      take(api.POST("/api/matches/place", { body: { document: { ...useDraft.getState().document }, steps } })),
    onSuccess: (made) => useDraft.getState().change(() => made.document as unknown as PipelineDocument),
  });
  const taken = (step: SuggestedStep) => document.steps.some((each) => each.id === step.id);
  const names = toldApart(others);
  return (
    <PageDialog title="Match the field" size="cover" scrolls close={close}>
      <Flex align="center" gap={3} wrap="wrap" mb={4}>
        <Text>
          variants of <b>{dataset.name}</b> through <b>{document.name}</b>, against
        </Text>
        <NativeSelect.Root size="xs" width="220px">
          <NativeSelect.Field aria-label="Field" value={chosen ?? ""} onChange={(event) => setField(Number(event.target.value))}>
            {others.map((each) => (
              <option key={each.id} value={each.id}>
                {names.get(each.id)}
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
        <Button size="sm" colorPalette="amber" disabled={!chosen || !may.edit} loading={start.isPending} onClick={() => start.mutate()}>
          Compare
        </Button>
        {(before.data?.length ?? 0) > 0 && (
          <NativeSelect.Root size="xs" width="250px" ml="auto">
            <NativeSelect.Field aria-label="Earlier matches" value={shown ?? ""} onChange={(event) => setOpen(Number(event.target.value))}>
              {before.data?.map((each) => (
                <option key={each.id} value={each.id}>
                  {each.names[0] ?? "no pipeline"} against {each.field_name}, {each.created.slice(0, 16).replace("T", " ")}
                </option>
              ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        )}
      </Flex>
      {others.length === 0 && datasets.data && (
        <Text color="fg.muted">
          There is no other set of pictures yet. <Link to="/datasets">Import</Link> some photographs from where the model will work; they
          need no labels.
        </Text>
      )}
      {(start.error ?? place.error) && <ErrorBox error={(start.error ?? place.error) as Error} />}
      {shown !== null && (
        <InquiryProgress id={shown}>
          {(inquiry) => (
            <MatchView
              found={inquiry.result as unknown as MatchResult}
              pictures={inquiry.pictures}
              field={inquiry.field_name ?? ""}
              taken={taken}
              take={(steps) => place.mutate(steps)}
            />
          )}
        </InquiryProgress>
      )}
      {shown === null && others.length > 0 && (
        <Box color="fg.muted" maxWidth="640px">
          The field is a set of pictures from where your model will work; labels are not needed. Brightness, contrast, warmth, tint,
          saturation, unevenness, sharpness, noise and compression are measured on its pictures, on the training pictures and on variants,
          and ranges are solved with which variants cover it.
        </Box>
      )}
    </PageDialog>
  );
}
