import { Box, Button, Checkbox, Flex, Text } from "@chakra-ui/react";
import { memo } from "react";
import type { Dataset, Ledger, PipelineDocument } from "../api/client";
import { useView } from "../state/view";
import { NumberField } from "./controls/NumberField";
import { percent, sayName } from "./values";

const SPLIT_WORDS: Record<string, string> = { train: "training" };

export const saySplit = (split: string) => SPLIT_WORDS[split] ?? split;

const ORDER = ["train", "validation", "test"];

/** Splits with what belongs to them, in their usual order. */
export function inOrder<T>(splits: Record<string, T>): [string, T][] {
  const rank = (split: string) => (ORDER.includes(split) ? ORDER.indexOf(split) : ORDER.length);
  return Object.entries(splits).sort(([a], [b]) => rank(a) - rank(b));
}

/** “192 training + 6 validation + 6 test”, in that order wherever the counts come from. */
export function sayCounts(counts: Record<string, number>): string {
  return inOrder(counts)
    .map(([split, count]) => `${count} ${saySplit(split)}`)
    .join(" + ");
}

export function sayBytes(bytes: number): string {
  if (bytes < 1e6) return `${Math.max(1, Math.round(bytes / 1e3))} kB`;
  return bytes < 1e9 ? `${(bytes / 1e6).toFixed(bytes < 1e7 ? 1 : 0)} MB` : `${(bytes / 1e9).toFixed(1)} GB`;
}

export function saySeconds(seconds: number): string {
  if (seconds < 90) return `${Math.max(1, Math.round(seconds))} s`;
  return seconds < 5400 ? `${Math.round(seconds / 60)} min` : `${(seconds / 3600).toFixed(1)} h`;
}

interface Props {
  dataset: Dataset;
  document: PipelineDocument;
  ledger: Ledger | undefined;
  /** True while the figures for newer settings are awaited. */
  stale: boolean;
  make: () => void;
  look: () => void;
}

/** Exact counts, what becomes of objects, and the button that makes an edition. */
export const LedgerBar = memo(function LedgerBar({ dataset, document, ledger, stale, make, look }: Props) {
  const dim = stale ? 0.5 : 1;
  const training = dataset.splits.find((split) => split.split === "train")?.images ?? 0;
  const all = ledger ? ledger.kept + ledger.clipped + ledger.dropped : 0;
  const worst = ledger?.blame[0];
  const worstStep = document.steps.find((step) => step.id === worst?.step);
  return (
    <Flex
      as="section"
      aria-label="Ledger"
      height="64px"
      flex="none"
      align="center"
      gap={6}
      px={4}
      borderTopWidth="1px"
      bg="bg.raised"
      fontSize="12.5px"
      overflow="hidden"
    >
      <Box flex="none">
        <Text fontWeight={650} fontSize="14px" data-testid="ledger-counts" opacity={dim}>
          {ledger ? sayCounts(ledger.counts) : "…"}
        </Text>
        <Wished training={training} />
      </Box>
      {ledger && all > 0 && (
        <Box
          as="button"
          flex="1 1 260px"
          minWidth="180px"
          maxWidth="380px"
          opacity={dim}
          textAlign="left"
          title="What becomes of the labels, by class and step"
          onClick={look}
        >
          <Text truncate>
            objects {percent(ledger.kept / all)} whole · {percent(ledger.clipped / all)} clipped ·{" "}
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
              ? `most lost by ${worstStep ? sayName(worstStep.step) : worst.step}: ${worst.count} of ${all}`
              : `none lost in ${ledger.sampled} sampled variants`}
          </Text>
        </Box>
      )}
      {ledger && (
        <>
          <Figures dim={dim} lines={[`blank ${percent(ledger.blank_share)}`, `${ledger.passes.toFixed(1)} passes per variant`]} />
          <Figures dim={dim} lines={[`about ${sayBytes(ledger.bytes)}`, `about ${saySeconds(ledger.seconds)}`]} />
        </>
      )}
      <Next look={look} make={make} />
    </Flex>
  );
});

/** How many images are wished for. */
const Wished = memo(function Wished({ training }: { training: number }) {
  const { variants, originals } = useView((view) => view.edition);
  return (
    <Flex align="center" gap={2} color="fg.muted" mt="2px">
      <span>{training} training images ×</span>
      <NumberField
        label="Variants of each training image"
        value={variants}
        low={0}
        high={1000}
        whole
        width="52px"
        change={(value) => useView.setState((view) => ({ edition: { ...view.edition, variants: value ?? 0 } }))}
      />
      <span>variants</span>
      <Checkbox.Root
        size="xs"
        checked={originals}
        onCheckedChange={({ checked }) => useView.setState((view) => ({ edition: { ...view.edition, originals: checked === true } }))}
      >
        <Checkbox.HiddenInput />
        <Checkbox.Control />
        <Checkbox.Label fontWeight={400}>+ originals</Checkbox.Label>
      </Checkbox.Root>
    </Flex>
  );
});

const Next = memo(function Next({ look, make }: Pick<Props, "look" | "make">) {
  return (
    <>
      <Button ml="auto" flex="none" variant="outline" size="sm" onClick={look} title="What becomes of the labels (F)">
        Forecast
      </Button>
      <Button flex="none" colorPalette="amber" size="sm" onClick={make} title="Make an edition (E)">
        Make an edition
      </Button>
    </>
  );
});

function Figures({ lines, dim }: { lines: [string, string]; dim: number }) {
  return (
    <Box flex="none" whiteSpace="nowrap" opacity={dim}>
      <Text>{lines[0]}</Text>
      <Text color="fg.muted">{lines[1]}</Text>
    </Box>
  );
}
