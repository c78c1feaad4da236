import { Box, Flex, Spinner, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, type Dataset, type PipelineDocument, take } from "../api/client";
import { EditionDialog } from "../editions/EditionDialog";
import { isTyping } from "../shell/keys";
import { Refused } from "../shell/Refused";
import { ViewTools } from "../shell/ViewTools";
import { redo, undo, useDraft } from "../state/draft";
import { useView } from "../state/view";
import { BenchTools, reshuffle } from "./BenchTools";
import { ContactSheet } from "./ContactSheet";
import { LedgerBar } from "./LedgerBar";
import { Rail } from "./Rail";
import { StepPanel } from "./StepPanel";
import { useSaving } from "./saving";
import { keepOf, useSheet } from "./sheet";

const ROWS = 6;

/** Where a pipeline is built by looking. */
export function Bench() {
  const datasets = useQuery({ queryKey: ["datasets"], queryFn: () => take(api.GET("/api/datasets")) });
  const [chosen, setChosen] = useState<number | null>(null);
  const saving = useSaving();
  const document = useDraft((draft) => draft.document);
  const dataset = datasets.data?.find((row) => row.id === chosen) ?? datasets.data?.[0];
  const trouble = datasets.error ?? saving.openError;
  if (trouble) {
    return (
      <Box p={6} maxWidth="640px">
        <Refused error={trouble} />
      </Box>
    );
  }
  if (datasets.data && !dataset) {
    return (
      <Box p={6}>
        <Text>There is no dataset yet. Bring one in under Datasets.</Text>
      </Box>
    );
  }
  if (!dataset || !document) {
    return (
      <Flex height="100%" align="center" justify="center" gap={3} color="fg.muted">
        <Spinner size="sm" /> laying out the sheet
      </Flex>
    );
  }
  return (
    <>
      <ViewTools>
        <BenchTools datasets={datasets.data ?? []} dataset={dataset} choose={setChosen} document={document} saving={saving} />
      </ViewTools>
      <Desk dataset={dataset} document={document} revision={saving.revisionId} />
    </>
  );
}

function Desk({ dataset, document, revision }: { dataset: Dataset; document: PipelineDocument; revision: number | null }) {
  const { pick, turn, variants, selected, edition } = useView();
  const [making, setMaking] = useState(false);
  const catalogue = useQuery({ queryKey: ["steps"], queryFn: () => take(api.GET("/api/steps")), staleTime: Number.POSITIVE_INFINITY });
  const rows = useQuery({
    queryKey: ["rows", dataset.id, pick, turn],
    queryFn: () => take(api.GET("/api/datasets/{id}/rows", { params: { path: { id: dataset.id }, query: { pick, turn, count: ROWS } } })),
    placeholderData: keepOf(dataset.id),
  });
  const images = rows.data?.map((image) => image.id);
  const sheet = useSheet(dataset.id, images, variants, document);
  const ledger = useQuery({
    queryKey: ["ledger", dataset.id, edition, document],
    queryFn: ({ signal }) =>
      take(api.POST("/api/ledger", { body: { dataset: dataset.id, document: { ...document }, ...edition }, signal })),
    enabled: sheet.complete,
    placeholderData: keepOf(dataset.id),
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (isTyping(event)) return;
      const key = event.key.toLowerCase();
      if ((event.ctrlKey || event.metaKey) && key === "z") {
        event.preventDefault();
        if (event.shiftKey) redo();
        else undo();
      } else if (event.ctrlKey || event.metaKey || event.altKey) return;
      else if (key === "r") reshuffle();
      else if (key === "e") setMaking(true);
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  const step =
    document.steps.find((candidate) => candidate.id === selected) ?? document.steps.find((candidate) => candidate.step === "rotate");
  const facts = catalogue.data?.find((candidate) => candidate.step === step?.step);
  return (
    <Flex direction="column" height="100%">
      <Rail document={document} catalogue={catalogue.data ?? []} runs={sheet.runs} />
      <Flex flex="1" minHeight={0}>
        <Box flex="1" minWidth={0} position="relative">
          {sheet.error && (
            <Box position="absolute" top="44px" left={4} right={4} zIndex={5} bg="bg.raised">
              <Refused error={sheet.error}>
                <Text color="fg.muted">The sheet below still shows the pipeline as it was before.</Text>
              </Refused>
            </Box>
          )}
          <ContactSheet dataset={dataset} document={document} rows={rows.data ?? []} tiles={sheet.tiles} stale={sheet.stale} />
        </Box>
        <Box width="308px" flex="none" borderLeftWidth="1px" bg="bg.raised" minHeight={0}>
          <StepPanel step={step} facts={facts} />
        </Box>
      </Flex>
      <LedgerBar
        dataset={dataset}
        document={document}
        ledger={ledger.data}
        stale={sheet.stale || ledger.isFetching}
        make={() => setMaking(true)}
      />
      {making && <EditionDialog dataset={dataset} document={document} revision={revision} close={() => setMaking(false)} />}
    </Flex>
  );
}
