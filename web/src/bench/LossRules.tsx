import { Box, Button, Flex, Popover, Portal, SegmentGroup, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import type { Dataset, PipelineDocument } from "../api/client";
import { askLedger } from "../api/queries";
import { NumberField } from "../shell/fields";
import { useDraft } from "../state/draft";
import { may } from "../state/session";
import { orderOf, useView } from "../state/view";
import { percent } from "../words/figures";

type Rules = PipelineDocument["labels"];

const SHARES = [0, 0.1, 0.25, 0.5, 0.75];
const SIDES = [0, 3, 8, 16];
const FITS = [
  ["corners", "corners: around the box's own turned corners"],
  ["ellipse", "ellipse: around the ellipse in the box, tighter for round things"],
] as const;

interface Props {
  dataset: Dataset;
  document: PipelineDocument;
}

const change = (part: Partial<Rules>) => useDraft.getState().change((current) => ({ ...current, labels: { ...current.labels, ...part } }));

/** When an object counts as lost: changed here, with what each choice would lose. */
export function LossRules({ dataset, document }: Props) {
  return (
    <Popover.Root lazyMount unmountOnExit positioning={{ placement: "top-start" }}>
      <Popover.Trigger asChild>
        <Button size="xs" variant="outline" flex="none" title="When an object counts as lost">
          Rules
        </Button>
      </Popover.Trigger>
      <Portal>
        <Popover.Positioner>
          <Popover.Content width="480px" p={4} aria-label="When an object counts as lost">
            <Panel dataset={dataset} document={document} />
          </Popover.Content>
        </Popover.Positioner>
      </Portal>
    </Popover.Root>
  );
}

function Panel({ dataset, document }: Props) {
  const { keep_share, keep_side_px, box_fit } = document.labels;
  return (
    <Flex direction="column" gap={4} fontSize="body">
      <Limit
        name="Share that must be left"
        says="An object stays when so much of it is left:"
        choices={SHARES.map((share) => ({ part: { keep_share: share }, on: keep_share === share, says: percent(share, 0) }))}
        field={{ label: "Share in percent", value: keep_share * 100, high: 100, change: (value) => change({ keep_share: value / 100 }) }}
        dataset={dataset}
        document={document}
      />
      <Limit
        name="Shorter side that must be left"
        says="and its box is so wide and high, px:"
        choices={SIDES.map((side) => ({ part: { keep_side_px: side }, on: keep_side_px === side, says: `${side} px` }))}
        field={{ label: "Shorter side in px", value: keep_side_px, high: 10_000, change: (value) => change({ keep_side_px: value }) }}
        dataset={dataset}
        document={document}
      />
      <Box role="group" aria-label="How boxes are fitted">
        <Text mb={2}>A box that is turned, and has no outline, is drawn anew:</Text>
        <SegmentGroup.Root
          size="sm"
          value={box_fit}
          disabled={!may.edit}
          onValueChange={(details) => details.value && change({ box_fit: details.value })}
        >
          <SegmentGroup.Indicator />
          {FITS.map(([name]) => (
            <SegmentGroup.Item key={name} value={name}>
              <SegmentGroup.ItemText>{name}</SegmentGroup.ItemText>
              <SegmentGroup.ItemHiddenInput />
            </SegmentGroup.Item>
          ))}
        </SegmentGroup.Root>
        <Text mt={2} color="fg.muted" fontSize="small">
          {FITS.find(([name]) => name === box_fit)?.[1]}
        </Text>
      </Box>
    </Flex>
  );
}

interface LimitProps extends Props {
  name: string;
  says: string;
  choices: Value[];
  field: { label: string; value: number; high: number; change: (value: number) => void };
}

/** What must be left of an object: one of a few values, or any other. */
function Limit({ name, says, choices, field, ...of }: LimitProps) {
  return (
    <Box role="group" aria-label={name}>
      <Text mb={2}>{says}</Text>
      <Flex gap={1} align="flex-start">
        {choices.map((choice) => (
          <Choice key={choice.says} {...of} {...choice} />
        ))}
        <NumberField {...field} low={0} width="60px" change={(value) => value !== null && may.edit && field.change(value)} />
      </Flex>
    </Box>
  );
}

interface Value {
  part: Partial<Rules>;
  on: boolean;
  says: string;
}

/** One value, and the share of objects that it would lose. */
function Choice({ dataset, document, part, on, says }: Props & Value) {
  const order = useView((view) => view.edition);
  const ledger = useQuery(askLedger(dataset, { ...document, labels: { ...document.labels, ...part } }, orderOf(order)));
  const { kept = 0, clipped = 0, dropped = 0 } = ledger.data ?? {};
  const all = kept + clipped + dropped;
  return (
    <Button
      size="xs"
      height="auto"
      py={1}
      flexDirection="column"
      gap={0}
      variant={on ? "solid" : "outline"}
      colorPalette={on ? "amber" : "gray"}
      aria-pressed={on}
      disabled={!may.edit}
      onClick={() => change(part)}
    >
      {says}
      <Text as="span" fontSize="caption" fontWeight={400}>
        {all ? `${percent(dropped / all)} lost` : "…"}
      </Text>
    </Button>
  );
}
