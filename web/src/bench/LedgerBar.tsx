import { Box, Button, Flex, Text } from "@chakra-ui/react";
import { memo } from "react";
import type { Dataset, Ledger, PipelineDocument, Schemas } from "../api/client";
import { WishControl } from "../shell/fields";
import { May } from "../shell/views";
import { percent, sayBytes, sayCounts, saySeconds } from "../words/figures";
import { LossRules } from "./LossRules";

/** Labels of each class in the training split before and after, as bars on one scale: how even they are is seen at a glance. */
export function ClassCounts({ classes }: { classes: readonly Schemas["ClassLabels"][] }) {
  const most = Math.max(1, ...classes.map((each) => Math.max(each.before, each.after)));
  if (!classes.some((each) => each.before)) return null;
  return (
    <Box
      as="dl"
      aria-label="Classes before and after"
      display="grid"
      gridTemplateColumns="minmax(90px, auto) 1fr auto"
      columnGap={3}
      rowGap="3px"
      alignItems="center"
      maxHeight="132px"
      overflowY="auto"
    >
      {classes.map((each) => (
        <Box key={each.name} display="contents">
          <Text as="dt" truncate title={each.name}>
            {each.name}
          </Text>
          <Box position="relative" height="9px" bg="bg.sunken">
            <Box position="absolute" insetY={0} left={0} bg="amber.solid" width={`${(100 * each.after) / most}%`} />
            <Box position="absolute" insetY={0} left={0} borderRightWidth="2px" borderColor="fg" width={`${(100 * each.before) / most}%`} />
          </Box>
          <Text as="dd" fontSize="small" color="fg.muted" whiteSpace="nowrap" fontVariantNumeric="tabular-nums">
            {each.before.toLocaleString("en")} → {each.after.toLocaleString("en")}
          </Text>
        </Box>
      ))}
    </Box>
  );
}

interface Props {
  dataset: Dataset;
  document: PipelineDocument;
  /** What steps are called, by their ids. */
  names: ReadonlyMap<string, string>;
  ledger: Ledger | undefined;
  /** True while the figures for newer settings are awaited. */
  stale: boolean;
  make: () => void;
  look: () => void;
  /** Compare with the field; probe whether it helps. */
  match: () => void;
  probe: () => void;
}

/** Exact counts, what becomes of objects, and the button that makes an edition. */
export const LedgerBar = memo(function LedgerBar({ dataset, document, names, ledger, stale, make, look, match, probe }: Props) {
  const dim = stale ? 0.5 : 1;
  const training = dataset.splits.find((split) => split.split === "train")?.images ?? 0;
  const all = ledger ? ledger.kept + ledger.clipped + ledger.dropped : 0;
  const worst = ledger?.blame[0];
  return (
    <Flex as="section" aria-label="Ledger" height="100%" align="center" gap={4} px={4} fontSize="small" overflow="hidden">
      <Box flex="none">
        <Text fontWeight={650} fontSize="title" data-testid="ledger-counts" opacity={dim}>
          {ledger ? sayCounts(ledger.counts) : "…"}
        </Text>
        <Wished training={training} />
      </Box>
      {ledger && all > 0 && (
        <Box
          as="button"
          flex="1 1 290px"
          minWidth="180px"
          maxWidth="380px"
          opacity={dim}
          textAlign="left"
          title={["What becomes of the labels, by class and step", ...ledger.class_objects.map(sayClass)].join("\n")}
          onClick={look}
        >
          <Text truncate>
            <Roomy>objects </Roomy>
            {percent(ledger.kept / all)} whole · <Roomy>{percent(ledger.clipped / all)} clipped · </Roomy>
            <Text as="span" color={ledger.dropped ? "loss" : undefined}>
              {percent(ledger.dropped / all)} lost
            </Text>
          </Text>
          <Flex height="5px" my="3px" role="img" aria-label="shares of objects whole, clipped and lost">
            <Box flexGrow={ledger.kept} bg="fg.muted" />
            <Box flexGrow={ledger.clipped} bg="amber.solid" />
            <Box flexGrow={ledger.dropped} bg="loss" />
          </Flex>
          <Text color="fg.muted" truncate>
            {worst
              ? `most lost by ${names.get(worst.step) ?? worst.step}: ${worst.count} of ${all}`
              : `none lost in ${ledger.sampled} sampled variants`}
          </Text>
        </Box>
      )}
      {ledger && all > 0 && <LossRules dataset={dataset} document={document} />}
      {ledger && (
        <>
          <Figures
            dim={dim}
            spare
            lines={[`blank ${percent(ledger.blank_share)}`, `resampled ${ledger.passes.toFixed(1)} × per variant`]}
          />
          <Figures dim={dim} narrow lines={[`about ${sayBytes(ledger.bytes)}`, `about ${saySeconds(ledger.seconds)}`]} />
        </>
      )}
      <Next look={look} make={make} match={match} probe={probe} />
    </Flex>
  );
});

/** Windows no wider than this, px, show only what is most needed. */
const NARROW = 1130;

/** Left out of windows no wider than `width`, px. */
const goneAt = (width: number) => ({ [`@media (max-width: ${width}px)`]: { display: "none" } });

/** Words that narrow windows leave out. */
function Roomy({ children }: { children: React.ReactNode }) {
  return (
    <Text as="span" css={goneAt(NARROW)}>
      {children}
    </Text>
  );
}

/** How many images are wished for. */
const Wished = memo(function Wished({ training }: { training: number }) {
  return (
    <Flex align="center" gap={2} color="fg.muted" mt="2px">
      <span>{training} training:</span>
      <WishControl />
    </Flex>
  );
});

const Next = memo(function Next({ look, make, match, probe }: Pick<Props, "look" | "make" | "match" | "probe">) {
  return (
    <>
      <Button
        ml="auto"
        flex="none"
        variant="ghost"
        colorPalette="gray"
        size="sm"
        px={2}
        onClick={match}
        title="Match: measure pictures from where the model will work, and be told which steps make the variants like them (M)"
      >
        Match
      </Button>
      <Button
        flex="none"
        variant="ghost"
        colorPalette="gray"
        size="sm"
        px={2}
        onClick={probe}
        title="Probe: train a small network with this pipeline and without, in minutes; does it help? (P)"
      >
        Probe
      </Button>
      <Button
        flex="none"
        variant="outline"
        size="sm"
        onClick={look}
        title="Forecast: what becomes of the labels, without touching a pixel (F)"
      >
        Forecast
      </Button>
      <May to="edit">
        <Button
          flex="none"
          colorPalette="amber"
          size="sm"
          onClick={make}
          title="Export: images, labels and a record of how each was made (E)"
        >
          Make an edition
        </Button>
      </May>
    </>
  );
});

/** A class's labels in the training split before and after. */
const sayClass = ({ name, before, after }: Ledger["class_objects"][number]) => `${name}: ${before} → ${after}`;

/** `spare`: what goes first where there is little room; `narrow`: what goes next. */
function Figures({ lines, dim, spare, narrow }: { lines: [string, string]; dim: number; spare?: boolean; narrow?: boolean }) {
  const gone = spare ? 1380 : narrow ? NARROW : 0;
  return (
    <Box flex="none" whiteSpace="nowrap" opacity={dim} css={goneAt(gone)}>
      <Text>{lines[0]}</Text>
      <Text color="fg.muted">{lines[1]}</Text>
    </Box>
  );
}
