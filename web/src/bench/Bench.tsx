import { Box, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { memo, startTransition, useCallback, useDeferredValue, useEffect, useMemo, useRef, useState } from "react";
import { useShallow } from "zustand/react/shallow";
import { type Dataset, type ImageRow, isMissing, type PipelineDocument, type StepFacts } from "../api/client";
import { askDatasets, askLedger, askOneImage, askRows, askSteps, askWorst, keepOf } from "../api/queries";
import { TileFeed } from "../picture/tile-feed";
import { ErrorBox } from "../shell/PageState";
import { isTyping } from "../shell/use-browser";
import { lazyPart, ViewTools } from "../shell/views";
import { redo, undo, useDraft } from "../state/draft";
import { isWorst, orderOf, type Pick, useAlone, useView, walkAlone } from "../state/view";
import { sayName } from "../words/steps";
import { Beginnings } from "./Beginnings";
import { BenchTools } from "./BenchTools";
import { againstTiles, soloOf } from "./Comparison";
import { ContactSheet } from "./ContactSheet";
import { Rail } from "./Rail";
import { reshuffle, useSaving } from "./saving";
import { benchFeed, fittingWidth, type Leading, NO_LEADING, PANEL, type Sight, useRoom, useSheet, wishOf } from "./sheet";
import "./steps.css";

const LedgerBar = lazyPart(async () => (await import("./LedgerBar")).LedgerBar);
const StepPanel = lazyPart(async () => (await import("./StepPanel")).StepPanel);
const EditionDialog = lazyPart(async () => (await import("./EditionDialog")).EditionDialog);
const MatchDialog = lazyPart(async () => (await import("../evidence/MatchDialog")).MatchDialog);
const ProbeDialog = lazyPart(async () => (await import("../evidence/ProbeDialog")).ProbeDialog);
const ForecastDialog = lazyPart(async () => (await import("./ForecastDialog")).ForecastDialog);

/** Where a pipeline is built by looking. */
export function Bench() {
  const datasets = useQuery(askDatasets);
  const chosen = useView((view) => view.dataset);
  const saving = useSaving();
  const document = useUnhurried(useDraft((draft) => draft.document));
  const dataset = datasets.data?.find((row) => row.id === chosen) ?? datasets.data?.[0];
  const unbegun = isMissing(saving.openError);
  if (datasets.data && (unbegun || (!dataset && document))) {
    return <Beginnings dataset={dataset?.name} pipeline={!unbegun} opened={() => void saving.open()} />;
  }
  const trouble = datasets.error ?? saving.openError;
  if (trouble) {
    return (
      <Box maxWidth="640px" p={6}>
        <ErrorBox error={trouble} />
      </Box>
    );
  }
  if (!dataset || !document) {
    return <p className="desk-loading">Loading the contact sheet…</p>;
  }
  return (
    <>
      <ViewTools>
        <BenchTools
          datasets={datasets.data ?? []}
          dataset={dataset}
          choose={choose}
          name={document.name}
          seed={document.seed}
          saving={saving}
        />
      </ViewTools>
      <Desk dataset={dataset} document={document} pipeline={saving.pipeline} revision={saving.revisionId} flush={saving.flush} />
    </>
  );
}

/** However long tiles take, the page follows the hand after this. */
const BEHIND_MS = 300;

/**
 * A document a moment later: the sheet hears of a change from the draft itself, and the rest of the page, which takes as long to draw as all
 * tiles, follows once they are in sight. Steps that come, go or change places are there at once.
 */
function useUnhurried(document: PipelineDocument | null): PipelineDocument | null {
  const [later, setLater] = useState(document);
  const isBehind = later !== document;
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is behind again as soon as it caught up waits anew
  useEffect(() => {
    if (!isBehind) return;
    const catchUp = () => startTransition(() => setLater(useDraft.getState().document));
    const { made } = benchFeed.snapshot();
    const forget = benchFeed.subscribe(() => benchFeed.snapshot().made !== made && catchUp());
    const timer = setTimeout(catchUp, BEHIND_MS);
    return () => {
      forget();
      clearTimeout(timer);
    };
  }, [isBehind, later]);
  return later?.steps.map(({ id }) => id).join() === document?.steps.map(({ id }) => id).join() ? later : document;
}

function choose(dataset: number): void {
  useView.setState({ dataset });
}

const CALM_MS = 450;
const NO_STEPS: StepFacts[] = [];
const NO_IMAGES: ImageRow[] = [];
const NO_FILTER = {};
/** Of one image alone, at least so many variants, and so many tiles side by side. */
const VARIANTS_ALONE = 11;
const ACROSS_ALONE = 4;

/** True a moment after `done` is: what is looked at comes first, what is counted after it. */
function useCalm(done: boolean): boolean {
  const [calm, setCalm] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setCalm(done), done ? CALM_MS : 0);
    return () => clearTimeout(timer);
  }, [done]);
  return calm && done;
}

/** What steps are called, by their ids; the same map until one of them changes. */
function useStepNames(document: PipelineDocument): ReadonlyMap<string, string> {
  const text = JSON.stringify(document.steps.map((step) => [step.id, sayName(step.step)]));
  return useMemo(() => new Map<string, string>(JSON.parse(text)), [text]);
}

/** How long the hand has rested before the rows are chosen anew, where they depend on the pipeline. */
const REST_MS = 1200;

/** The images on the sheet: those given, or those on which the pipeline does worst, each beginning with the variant that does it. */
function useWorst(
  dataset: Dataset,
  document: PipelineDocument,
  pick: Pick,
  count: number,
  given: ImageRow[],
): { images: ImageRow[]; leading: Leading } {
  const [rested, setRested] = useState(document);
  useEffect(() => {
    const timer = setTimeout(() => setRested(document), REST_MS);
    return () => clearTimeout(timer);
  }, [document]);
  const by = isWorst(pick) ? pick : null;
  const found = useQuery({
    ...askWorst(dataset, rested, by ?? "lost", count),
    enabled: by !== null,
    placeholderData: keepOf(dataset.id),
  });
  return useMemo(() => {
    if (by === null || !found.data) return { images: given, leading: NO_LEADING };
    return {
      images: found.data.map(({ image }) => image as ImageRow),
      leading: new Map(found.data.map(({ image, variant }) => [image.id, variant])),
    };
  }, [by, found.data, given]);
}

const LATE_MS = 350;

/** True once something has been so for a while. */
function useLate(is: boolean): boolean {
  const [late, setLate] = useState(is);
  useEffect(() => {
    const timer = setTimeout(() => setLate(is), is ? LATE_MS : 0);
    return () => clearTimeout(timer);
  }, [is]);
  return late && is;
}

interface DeskProps {
  dataset: Dataset;
  document: PipelineDocument;
  pipeline: number | null;
  revision: number | null;
  /** Makes a revision of what is not saved yet. */
  flush: () => Promise<void>;
}

const Desk = memo(function Desk({ dataset, document, pipeline, revision, flush }: DeskProps) {
  const {
    turn,
    rows: count,
    variants: chosenVariants,
    edition,
    solo,
    against,
    pins,
    ...view
  } = useView(
    // What is pointed at changes with every move of the pointer and is of no concern here.
    useShallow(({ lit: _lit, held: _held, focus: _focus, large: _large, selected: _selected, ...rest }) => rest),
  );
  const selected = useView((view) => view.selected);
  const [making, setMaking] = useState(false);
  const [looking, setLooking] = useState(false);
  const [asking, setAsking] = useState<"match" | "probe" | null>(null);
  // An edition names the revision it is made of.
  const make = useCallback(() => void flush().then(() => setMaking(true)), [flush]);
  const look = useCallback(() => setLooking(true), []);
  const match = useCallback(() => setAsking("match"), []);
  const probe = useCallback(() => setAsking("probe"), []);
  const catalogue = useQuery(askSteps);
  const rows = useQuery({
    ...askRows(dataset, wishOf(dataset.id, { ...view, turn, pins, rows: count })),
    placeholderData: keepOf(dataset.id),
  });
  const many = useWorst(dataset, document, view.pick, count, rows.data ?? NO_IMAGES);
  const alone = useAlone(dataset);
  const one = useQuery({
    ...askOneImage(dataset, alone?.filter ?? NO_FILTER, alone?.place ?? 0),
    enabled: alone !== null,
    placeholderData: keepOf(dataset.id),
  });
  const { images, leading } = alone ? { images: one.data ?? NO_IMAGES, leading: NO_LEADING } : many;
  const variants = alone ? Math.max(chosenVariants, VARIANTS_ALONE) : chosenVariants;
  const shown = useMemo(() => soloOf(document, solo), [document, solo]);
  const following = useCallback((draft: PipelineDocument) => soloOf(draft, solo), [solo]);
  // There is a document as long as there is a desk.
  const current = useCallback(() => following(useDraft.getState().document as PipelineDocument), [following]);
  const place = useRef<HTMLDivElement>(null);
  const room = useRoom(place, window.innerWidth - PANEL);
  const tileWidth = alone ? fittingWidth(room, ACROSS_ALONE - 1) : (view.tileWidth ?? fittingWidth(room, variants));
  const [otherFeed] = useState(() => new TileFeed());
  const sheet = useSheet(benchFeed, dataset, images, variants, leading, shown, tileWidth, following);
  const other = useSheet(otherFeed, dataset, against ? images : NO_IMAGES, variants, leading, against?.document ?? shown, tileWidth, null);
  const [lookAt, lookAtOther] = [sheet.look, other.look];
  const see = useCallback(
    (sight: Sight) => {
      lookAt(sight);
      lookAtOther(sight);
    },
    [lookAt, lookAtOther],
  );
  const compared = useMemo(() => againstTiles(against, other.feed, other.tiles), [against, other.feed, other.tiles]);
  const calm = useCalm(!sheet.stale);
  // What a person came for is drawn first: the panel and the ledger come once tiles are there, and stay.
  const [begun, setBegun] = useState(false);
  if (!begun && (!sheet.stale || sheet.error)) setBegun(true);
  const names = useStepNames(document);
  const ledger = useQuery({
    ...askLedger(dataset, document, orderOf(edition)),
    enabled: calm,
    placeholderData: keepOf(dataset.id),
  });
  const late = useLate(sheet.stale || ledger.isFetching);
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
      else if (key === "e") make();
      else if (key === "f") setLooking(true);
      else if (key === "m") setAsking("match");
      else if (key === "p") setAsking("probe");
      else if (key === "arrowleft" || key === "arrowright") {
        const { alone, large } = useView.getState();
        if (alone && !large && window.document.activeElement?.getAttribute("role") !== "slider") walkAlone(key === "arrowleft" ? -1 : 1);
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, [make]);
  // The rail first, as it can be used by itself; the sheet a moment later.
  const sheeted = useDeferredValue(true, false);
  const step =
    document.steps.find((candidate) => candidate.id === selected) ??
    document.steps.find((candidate) => candidate.step === "rotate") ??
    document.steps[0];
  return (
    <div className="desk">
      <Rail
        document={document}
        catalogue={catalogue.data ?? NO_STEPS}
        runs={sheet.runs}
        open={step?.id ?? null}
        dataset={dataset}
        image={images[0]}
      />
      <div className="desk-middle">
        <div ref={place} className="desk-sheet">
          {sheet.error && (
            <div className="desk-refused">
              <ErrorBox error={sheet.error}>
                <Text color="fg.muted">The sheet below still shows the pipeline as it was before.</Text>
              </ErrorBox>
            </div>
          )}
          {sheeted && (
            <ContactSheet
              variants={variants}
              alone={alone !== null}
              dataset={dataset}
              current={current}
              names={names}
              tileWidth={tileWidth}
              rows={images}
              feed={sheet.feed}
              tiles={sheet.tiles}
              leading={leading}
              look={see}
              ready={calm}
              pipeline={pipeline}
              against={compared}
            />
          )}
        </div>
        <div className="desk-panel" style={{ width: PANEL }}>
          {begun && (
            <Panel
              id={step?.id}
              catalogue={catalogue.data ?? NO_STEPS}
              dataset={dataset}
              document={document}
              image={images[0]}
              ready={calm}
            />
          )}
        </div>
      </div>
      <div className="desk-ledger">
        {begun && (
          <LedgerBar
            document={document}
            dataset={dataset}
            names={names}
            ledger={ledger.data}
            stale={late}
            make={make}
            look={look}
            match={match}
            probe={probe}
          />
        )}
      </div>
      {looking && (
        <ForecastDialog dataset={dataset} document={document} catalogue={catalogue.data ?? NO_STEPS} close={() => setLooking(false)} />
      )}
      {asking === "match" && <MatchDialog dataset={dataset} document={document} close={() => setAsking(null)} />}
      {asking === "probe" && <ProbeDialog dataset={dataset} document={document} close={() => setAsking(null)} />}
      {making && <EditionDialog dataset={dataset} document={document} revision={revision} close={() => setMaking(false)} />}
    </div>
  );
});

interface PanelProps {
  id: string | undefined;
  catalogue: StepFacts[];
  dataset: Dataset;
  document: PipelineDocument;
  image: ImageRow | undefined;
  ready: boolean;
}

/** The chosen step's controls as the hand left them, while the rest of the page still shows `document`. */
function Panel({ id, document, ready, ...rest }: PanelProps) {
  const draft = useDraft((state) => state.document) ?? document;
  // A step that is added stands on the rail at once; its many controls come while the tiles do, and never before them.
  const step = useDeferredValue(draft.steps.find((each) => each.id === id));
  return <StepPanel step={step} document={useDeferredValue(document)} ready={ready && draft === document} {...rest} />;
}
