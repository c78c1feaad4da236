import { Box, Button, Flex, IconButton, NativeSelect, Spinner, Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Maximize2, Minimize2 } from "lucide-react";
import { useState } from "react";
import { api, type Dataset, type PipelineDocument, type Schemas, type StepFacts, take } from "../api/client";
import { askForecast } from "../api/queries";
import { classColor } from "../picture/draw-labels";
import { PageDialog } from "../shell/Dialog";
import { NumberField } from "../shell/fields";
import { ErrorBox } from "../shell/PageState";
import { PlotBar, PlotFrame, useSaid } from "../shell/PlotFrame";
import { changeStep } from "../state/draft";
import { counted, percent } from "../words/figures";
import { matters, sayName, sayRange } from "../words/steps";

const DRAWS = 1000;

type Forecast = Schemas["Forecast"];

interface Props {
  dataset: Dataset;
  document: PipelineDocument;
  catalogue: StepFacts[];
  close: () => void;
}

/** What becomes of the labels: losses by class and by step, sizes before and after, and the widest range that is safe. */
export function ForecastDialog({ dataset, document, catalogue, close }: Props) {
  const found = useQuery(askForecast(dataset, document, DRAWS));
  return (
    <PageDialog title="Forecast" size="xl" scrolls close={close}>
      <Text color="fg.muted">
        What becomes of the labels: the pipeline carried out on them alone, many times, without touching a pixel.
      </Text>
      {found.error && <ErrorBox error={found.error} />}
      {found.isPending && (
        <Flex align="center" gap={3} color="fg.muted" py={6}>
          <Spinner size="sm" /> simulating {DRAWS} draws on the labels
        </Flex>
      )}
      {found.data && <Report found={found.data} dataset={dataset} document={document} />}
      <WidestRange dataset={dataset} document={document} catalogue={catalogue} />
    </PageDialog>
  );
}

function Report({ found, dataset, document }: { found: Forecast; dataset: Dataset; document: PipelineDocument }) {
  const { objects } = found;
  const stepName = (id: string) => {
    const step = document.steps.find((each) => each.id === id);
    return step ? sayName(step.step) : id === "source" ? "too small before" : id;
  };
  const steps = [...found.steps].sort((a, b) => b.dropped + b.clipped - (a.dropped + a.clipped));
  const most = Math.max(1, ...steps.map((step) => step.dropped + step.clipped));
  const largest = Math.max(...found.classes.flatMap((each) => [each.balance_before, each.balance_after]), 1e-9);
  const [large, setLarge] = useState<string | null>(null);
  const plot = { large, open: setLarge };
  return (
    <>
      <Text mb={4} role="status">
        {found.variants} variants of {found.images} training images: of {objects.before} objects {percent(objects.kept / objects.before)}{" "}
        whole, {percent(objects.clipped / objects.before)} clipped,{" "}
        <Text as="span" color={objects.dropped ? "loss" : undefined}>
          {percent(objects.dropped / objects.before)} lost
        </Text>
        {found.keypoints.before > 0 && <>; {percent(1 - found.keypoints.after / found.keypoints.before)} of the keypoints lost</>}
        {found.blank_share.mean !== undefined && <>; {percent(found.blank_share.mean)} blank on average</>}.
      </Text>
      <Flex gap={8} align="flex-start">
        <Box flex="1" minWidth={0} display={large === BALANCE ? "none" : undefined}>
          <Plotted name="steps to blame: clipped, lost" {...plot}>
            {steps.length === 0 && <Text color="fg.muted">No step clips or loses anything.</Text>}
            {steps.map((step) => (
              <Box
                key={step.name}
                mb={2}
                title={Object.entries(step.reasons)
                  .map(([reason, count]) => `${reason}: ${count}`)
                  .join("\n")}
              >
                <Flex justify="space-between" fontSize="body">
                  <Text>{stepName(step.name)}</Text>
                  <Text>
                    {step.clipped}{" "}
                    <Text as="span" color="loss">
                      {step.dropped}
                    </Text>
                  </Text>
                </Flex>
                <Flex height={large ? "18px" : "6px"} bg="bg.emphasized">
                  <Box width={`${(100 * step.clipped) / most}%`} bg="amber.solid" />
                  <Box width={`${(100 * step.dropped) / most}%`} bg="loss" />
                </Flex>
              </Box>
            ))}
          </Plotted>
          <Plotted name="box side, px: before above, after below" {...plot}>
            <Sides before={found.box_side_px.before} after={found.box_side_px.after} />
          </Plotted>
          <Plotted name="blank share of a variant" {...plot}>
            <Blank bins={found.blank_bins} high={large ? 260 : 48} />
          </Plotted>
        </Box>
        <Box flex="1" minWidth={0} display={large !== null && large !== BALANCE ? "none" : undefined}>
          <Plotted name={BALANCE} {...plot}>
            {found.classes.map((each) => (
              <Box key={each.name} mb={2}>
                <Flex justify="space-between" fontSize="body">
                  <Text truncate>{each.name}</Text>
                  <Text whiteSpace="nowrap">
                    {percent(each.balance_before)} → {percent(each.balance_after)}{" "}
                    <Text as="span" color="loss">
                      {each.before ? percent(each.dropped / each.before) : ""}
                    </Text>
                  </Text>
                </Flex>
                {[each.balance_before, each.balance_after].map((share, after) => (
                  <Box
                    // biome-ignore lint/suspicious/noArrayIndexKey: before and after
                    key={after}
                    height={large ? "16px" : "4px"}
                    mb="1px"
                    width={`${(100 * share) / largest}%`}
                    opacity={after ? 1 : 0.5}
                    style={{ background: classColor(dataset.classes, each.name) }}
                  />
                ))}
              </Box>
            ))}
          </Plotted>
        </Box>
      </Flex>
    </>
  );
}

const BALANCE = "class balance: before above, after below; lost";

/** A small plot that opens large, the others out of the way, and closes again. */
function Plotted({
  name,
  large,
  open,
  children,
}: {
  name: string;
  large: string | null;
  open: (name: string | null) => void;
  children: React.ReactNode;
}) {
  if (large !== null && large !== name) return null;
  return (
    <Box role="group" aria-label={name} mb={3}>
      <Flex align="center" justify="space-between" mt={2} mb={1.5}>
        <Text as="h3" fontSize="small" color="fg.muted">
          {name}
        </Text>
        <IconButton
          size="2xs"
          variant="ghost"
          colorPalette="gray"
          aria-label={large ? "Small again" : `FullView: ${name}`}
          onClick={() => open(large ? null : name)}
        >
          {large ? <Minimize2 size={12} /> : <Maximize2 size={12} />}
        </IconButton>
      </Flex>
      {children}
    </Box>
  );
}

/** How many variants are blank to which share; heights are square roots, so that rare ones show. */
function Blank({ bins, high }: { bins: number[]; high: number }) {
  const last = Math.max(
    3,
    bins.findLastIndex((count) => count > 0),
  );
  const most = Math.max(1, ...bins);
  const ticks = [0, 0.5, 1].map((at) => ({ at, text: `${5 * (last + 1) * at} %` }));
  return (
    <PlotFrame top={`${counted(most, "variant")}; heights are square roots`} ticks={ticks} unit="of the picture is blank">
      <Flex height={`${high}px`} align="flex-end" gap="2px">
        {bins.slice(0, last + 1).map((count, place) => (
          <PlotBar
            // biome-ignore lint/suspicious/noArrayIndexKey: a bin is its place
            key={place}
            share={Math.sqrt(count / most)}
            said={`${counted(count, "variant")} ${5 * place} to ${5 * place + 5} % blank`}
          />
        ))}
      </Flex>
    </PlotFrame>
  );
}

/** Quantiles as a box between a quarter and three quarters, whiskers from 5 to 95 %, on a scale of octaves. */
function Sides({ before, after }: { before: Record<string, number>; after: Record<string, number> }) {
  const all = [...Object.values(before), ...Object.values(after)].filter((value) => value > 0);
  if (!all.length) return <Text color="fg.muted">There are no boxes.</Text>;
  const low = Math.log2(Math.min(...all));
  const high = Math.log2(Math.max(...all));
  const place = (octave: number) => (octave - low) / Math.max(high - low, 1e-6);
  const at = (value: number | undefined) => `${100 * place(Math.log2(Math.max(value ?? 1, 1e-3)))}%`;
  // Powers of two between the ends, and the ends where none is near.
  const octaves = Array.from({ length: Math.floor(high) - Math.ceil(low) + 1 }, (_, step) => Math.ceil(low) + step);
  const ticks = [low, ...octaves.filter((octave) => place(octave) > 0.12 && place(octave) < 0.88), high].map((octave) => ({
    at: place(octave),
    text: Math.round(2 ** octave),
  }));
  return (
    <PlotFrame
      ticks={ticks}
      unit="px, halves and doubles evenly spaced"
      top={`half of them above ${before["50%"]} px before, ${after["50%"]} px after`}
    >
      {[before, after].map((each, row) => (
        <Quantiles key={row ? "after" : "before"} said={`${row ? "after" : "before"}: ${sayQuantiles(each)}`}>
          <Box
            position="absolute"
            top="7px"
            height="1px"
            bg="fg.muted"
            style={{ left: at(each["5%"]), right: `calc(100% - ${at(each["95%"])})` }}
          />
          <Box
            position="absolute"
            top="3px"
            height="9px"
            bg={row ? "fg" : "fg.muted"}
            style={{ left: at(each["25%"]), right: `calc(100% - ${at(each["75%"])})` }}
          />
          <Box position="absolute" top="1px" height="13px" width="2px" bg="amber.solid" style={{ left: at(each["50%"]) }} />
        </Quantiles>
      ))}
    </PlotFrame>
  );
}

function Quantiles({ said, children }: { said: string; children: React.ReactNode }) {
  return (
    <Box position="relative" height="16px" role="img" {...useSaid(said)} _hover={{ bg: "bg.emphasized/50" }}>
      {children}
    </Box>
  );
}

/** “5 % below 12, 25 % below 30, … px” */
const sayQuantiles = (found: Record<string, number>) =>
  `${Object.entries(found)
    .map(([share, value]) => `${share.replace("%", " %")} ≤ ${Math.round(value)}`)
    .join(", ")} px`;

/** “Find the largest range that loses at most …”, for any range of a step that moves things. */
function WidestRange({ dataset, document, catalogue }: Omit<Props, "close">) {
  const choices = document.steps.flatMap((step) => {
    const facts = catalogue.find((each) => each.step === step.step);
    if (facts?.kind !== "geometry" || !step.enabled) return [];
    return facts.parameters
      .filter((parameter) => parameter.control === "span" && matters(parameter, step, facts))
      .map((parameter) => ({ step, parameter, name: `${step.id}.${parameter.name}` }));
  });
  const [chosen, setChosen] = useState(choices[0]?.name ?? "");
  const [most, setMost] = useState(2);
  const search = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/forecast/limit", {
          body: { dataset: dataset.id, document: { ...document }, draws: 400, parameter: chosen, lose_at_most: most / 100 },
        }),
      ),
  });
  const choice = choices.find((each) => each.name === chosen);
  if (!choices.length) return null;
  const ends = search.data?.parameter === chosen ? search.data.ends : undefined;
  return (
    <Box borderTopWidth="1px" mt={5} pt={4}>
      <Flex align="center" gap={2} wrap="wrap">
        <Text>Find the largest range of</Text>
        <NativeSelect.Root size="xs" width="210px">
          <NativeSelect.Field
            aria-label="Range to widen"
            value={chosen}
            onChange={(event) => {
              search.reset();
              setChosen(event.target.value);
            }}
          >
            {choices.map(({ name, step, parameter }) => (
              <option key={name} value={name}>
                {sayName(step.step)}, {sayName(parameter.name)}
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
        <Text>that loses at most</Text>
        <NumberField label="loss allowed, %" value={most} low={0} high={100} width="56px" change={(value) => setMost(value ?? 2)} />
        <Text>% of the objects</Text>
        <Button size="xs" variant="outline" onClick={() => search.mutate()} loading={search.isPending}>
          Find
        </Button>
      </Flex>
      {search.error && <ErrorBox error={search.error} />}
      {choice && search.data && ends !== undefined && (
        <Flex align="center" gap={3} mt={3} role="status">
          {ends ? (
            <>
              <Text fontWeight={600}>{sayRange(ends as [number, number], choice.parameter.unit)}</Text>
              <Text color="fg.muted">
                loses {percent(search.data.lost_share, 2)}; without the step {percent(search.data.lost_without, 2)} are lost
              </Text>
              <Button size="xs" colorPalette="amber" onClick={() => changeStep(choice.step.id, { [choice.parameter.name]: ends })}>
                Use this range
              </Button>
            </>
          ) : (
            <Text>No range is narrow enough: {percent(search.data.lost_without, 2)} are lost without it already.</Text>
          )}
        </Flex>
      )}
    </Box>
  );
}
