import { Box, Flex, Spinner, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useShallow } from "zustand/react/shallow";
import type { Dataset, PipelineDocument, StepFacts } from "../api/client";
import { askDatasets, askLedger, askRows, askSteps, keepOf } from "../api/queries";
import { pictureWidth } from "../picture/widths";
import { ErrorBox } from "../shell/ErrorBox";
import { isTyping } from "../shell/keys";
import { ViewTools } from "../shell/ViewTools";
import { redo, undo, useDraft } from "../state/draft";
import { orderOf, useView } from "../state/view";
import { BenchTools, reshuffle } from "./BenchTools";
import { wishOf } from "./begin";
import { ContactSheet } from "./ContactSheet";
import { againstTiles, soloOf } from "./comparison";
import { EditionDialog } from "./EditionDialog";
import { ForecastDialog } from "./ForecastDialog";
import { LedgerBar } from "./LedgerBar";
import { Rail } from "./Rail";
import { StepPanel } from "./StepPanel";
import { useSaving } from "./saving";
import { type Sight, useSheet } from "./sheet";
import { fittingWidth, useRoom } from "./tile-width";

/** Where a pipeline is built by looking. */
export function Bench() {
  const datasets = useQuery(askDatasets);
  const chosen = useView((view) => view.dataset);
  const saving = useSaving();
  const document = useDraft((draft) => draft.document);
  const dataset = datasets.data?.find((row) => row.id === chosen) ?? datasets.data?.[0];
  const trouble = datasets.error ?? saving.openError;
  if (trouble) {
    return (
      <Box p={6} maxWidth="640px">
        <ErrorBox error={trouble} />
      </Box>
    );
  }
  if (datasets.data && !dataset) {
    return (
      <Box p={6}>
        <Text>There is no dataset yet. Import one under Datasets.</Text>
      </Box>
    );
  }
  if (!dataset || !document) {
    return (
      <Flex height="100%" align="center" justify="center" gap={3} color="fg.muted">
        <Spinner size="sm" /> Loading the contact sheet…
      </Flex>
    );
  }
  return (
    <>
      <ViewTools>
        <BenchTools
          datasets={datasets.data ?? []}
          dataset={dataset}
          choose={(dataset) => useView.setState({ dataset })}
          document={document}
          saving={saving}
        />
      </ViewTools>
      <Desk dataset={dataset} document={document} pipeline={saving.pipeline} revision={saving.revisionId} />
    </>
  );
}

const CALM_MS = 450;
/** The width of the step's panel, px. */
const PANEL = 308;
const NO_STEPS: StepFacts[] = [];

/** True a moment after `done` is: what is looked at comes first, what is counted after it. */
function useCalm(done: boolean): boolean {
  const [calm, setCalm] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setCalm(done), done ? CALM_MS : 0);
    return () => clearTimeout(timer);
  }, [done]);
  return calm && done;
}

interface DeskProps {
  dataset: Dataset;
  document: PipelineDocument;
  pipeline: number | null;
  revision: number | null;
}

function Desk({ dataset, document, pipeline, revision }: DeskProps) {
  const {
    turn,
    rows: count,
    variants,
    selected,
    edition,
    solo,
    against,
    pins,
    ...view
  } = useView(
    // What is pointed at changes with every move of the pointer and is of no concern here.
    useShallow(({ lit: _lit, held: _held, focus: _focus, large: _large, ...rest }) => rest),
  );
  const [sight, setSight] = useState<Sight>({ first: 0, last: 3 });
  const [making, setMaking] = useState(false);
  const [looking, setLooking] = useState(false);
  const make = useCallback(() => setMaking(true), []);
  const look = useCallback(() => setLooking(true), []);
  const catalogue = useQuery(askSteps);
  const rows = useQuery({
    ...askRows(dataset, wishOf(dataset.id, { ...view, turn, pins, rows: count })),
    placeholderData: keepOf(dataset.id),
  });
  const images = rows.data?.map((image) => image.id);
  const shown = useMemo(() => soloOf(document, solo), [document, solo]);
  const place = useRef<HTMLDivElement>(null);
  const room = useRoom(place, window.innerWidth - PANEL);
  const tileWidth = view.tileWidth ?? fittingWidth(room, variants);
  const width = pictureWidth(tileWidth);
  const sheet = useSheet(dataset, images, variants, shown, sight, width);
  const other = useSheet(dataset, against ? images : [], variants, against?.document ?? shown, sight, width);
  const calm = useCalm(sheet.complete);
  const ledger = useQuery({
    ...askLedger(dataset, document, orderOf(edition)),
    enabled: calm,
    placeholderData: keepOf(dataset.id),
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
      else if (key === "f") setLooking(true);
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  const step =
    document.steps.find((candidate) => candidate.id === selected) ??
    document.steps.find((candidate) => candidate.step === "rotate") ??
    document.steps[0];
  return (
    <Flex direction="column" height="100%">
      <Rail
        document={document}
        catalogue={catalogue.data ?? NO_STEPS}
        runs={sheet.runs}
        open={step?.id ?? null}
        dataset={dataset}
        image={rows.data?.[0]}
      />
      <Flex flex="1" minHeight={0}>
        <Box ref={place} flex="1" minWidth={0} position="relative">
          {sheet.error && (
            <Box position="absolute" top="44px" left={4} right={4} zIndex={5} bg="bg.raised">
              <ErrorBox error={sheet.error}>
                <Text color="fg.muted">The sheet below still shows the pipeline as it was before.</Text>
              </ErrorBox>
            </Box>
          )}
          <ContactSheet
            dataset={dataset}
            document={shown}
            tileWidth={tileWidth}
            rows={rows.data ?? []}
            tiles={sheet.tiles}
            late={sheet.late}
            look={setSight}
            ready={calm}
            pipeline={pipeline}
            against={againstTiles(against, other)}
          />
        </Box>
        <Box width={`${PANEL}px`} flex="none" borderLeftWidth="1px" bg="bg.raised" minHeight={0}>
          <StepPanel
            step={step}
            catalogue={catalogue.data ?? NO_STEPS}
            dataset={dataset}
            document={document}
            image={rows.data?.[0]}
            ready={calm}
          />
        </Box>
      </Flex>
      <LedgerBar
        dataset={dataset}
        document={document}
        ledger={ledger.data}
        stale={sheet.stale || ledger.isFetching}
        make={make}
        look={look}
      />
      {looking && (
        <ForecastDialog dataset={dataset} document={document} catalogue={catalogue.data ?? NO_STEPS} close={() => setLooking(false)} />
      )}
      {making && <EditionDialog dataset={dataset} document={document} revision={revision} close={() => setMaking(false)} />}
    </Flex>
  );
}
