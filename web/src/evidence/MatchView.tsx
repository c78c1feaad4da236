import { Box, Button, Flex, Image, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { seriesColor } from "../picture/draw-labels";
import { Heading } from "../shell/NarrowPanel";
import { counted, percent } from "../words/figures";
import { sayName } from "../words/steps";
import { Ridges } from "./Ridges";
import type { ConditionFacts, MatchResult, SuggestedStep } from "./results";

interface Props {
  found: MatchResult;
  pictures: Schemas["FieldPicture"][];
  field: string;
  /** Whether a suggested step is on the rail already. */
  taken: (step: SuggestedStep) => boolean;
  take: (steps: SuggestedStep[]) => void;
}

const TRAINING = "var(--chakra-colors-fg-muted)";
const VARIANTS = "var(--chakra-colors-amber-solid)";
const FIELD = seriesColor(0);

/** What a match found: the headline, a plot for each condition, the suggestion as stops, and the pictures nothing covers yet. */
export function MatchView({ found, pictures, field, taken, take }: Props) {
  const steps = found.suggested.steps;
  return (
    <Flex gap={8} align="flex-start" wrap={{ base: "wrap", lg: "nowrap" }}>
      <Box flex="1 1 620px" minWidth={0}>
        <Headline found={found} />
        <Flex gap={5} my={3} fontSize="small" wrap="wrap">
          <Key color={TRAINING} says={`training (${found.pictures.training})`} />
          <Key color={VARIANTS} says="variants now" />
          {steps.length > 0 && <Key color={VARIANTS} dashed says="with the suggestion" />}
          <Key color={FIELD} says={`${field} (${found.pictures.field}); shaded: its 2-98 % range`} />
          <Text color="fg.muted">numbers: the share of it that is covered</Text>
        </Flex>
        <Box display="grid" gridTemplateColumns="repeat(auto-fill, minmax(235px, 1fr))" columnGap={6} rowGap={4}>
          {found.conditions.map((each) => (
            <ConditionPlot key={each.name} facts={each} suggested={steps.length > 0} />
          ))}
        </Box>
      </Box>
      <Box flex="0 0 320px">
        <Heading>suggestion</Heading>
        {steps.length === 0 && (
          <Text>
            {found.unreached.length
              ? "No step would bring the variants nearer."
              : "Nothing: the field and the variants are alike as they are."}
          </Text>
        )}
        {steps.map((step) => (
          <Stop key={step.id} step={step} found={found} taken={taken(step)} take={() => take([step])} />
        ))}
        {steps.length > 1 && (
          <Button
            size="sm"
            colorPalette="amber"
            mt={1}
            disabled={steps.every(taken)}
            onClick={() => take(steps.filter((step) => !taken(step)))}
          >
            Take all
          </Button>
        )}
        {steps.length > 0 && (
          <Text fontSize="small" color="fg.muted" mt={2}>
            They go on the rail before what makes every picture the model's size; Ctrl + Z takes them back.
          </Text>
        )}
        {found.unreached.length > 0 && <Heading>not reached</Heading>}
        {found.unreached.map((line) => (
          <Text key={line} mb={2}>
            {line}
          </Text>
        ))}
        {pictures.length > 0 && <Heading>{`of the field, outside of the variants now`}</Heading>}
        <Flex wrap="wrap" gap={2}>
          {pictures.map((each) => (
            <Box key={each.key} width="98px" title={`${each.key}: ${each.conditions.join(", ")}`}>
              <Image
                src={`/api/pictures/${each.sha256}/240.jpg`}
                alt={`${each.key}, outside of ${each.conditions.join(", ")}`}
                width="98px"
                height="74px"
                objectFit="cover"
              />
              <Text fontSize="caption" color="fg.muted" truncate>
                {each.conditions.join(", ")}
              </Text>
            </Box>
          ))}
        </Flex>
        {found.notes.map((line) => (
          <Text key={line} fontSize="small" color="fg.muted" mt={3}>
            {line}
          </Text>
        ))}
      </Box>
    </Flex>
  );
}

function Headline({ found }: { found: MatchResult }) {
  const after = found.suggested.steps.length > 0;
  return (
    <Box>
      <Flex align="baseline" gap={3} data-testid="headline">
        <Text fontSize="26px" fontWeight={650} lineHeight={1.2}>
          {found.auc_before.toFixed(2)}
          {after && ` → ${found.auc_after.toFixed(2)}`}
        </Text>
        <Text>
          {sayAuc(found.auc_before)}
          {after && `; with the suggestion, ${sayAuc(found.auc_after)}`}
        </Text>
      </Flex>
      <Text fontSize="small" color="fg.muted">
        how often a classifier of nine conditions puts a field picture before a variant (AUC, five-fold; 0.5: it can't); 95 % intervals{" "}
        {sayInterval(found.auc_before_interval)}
        {after && ` and ${sayInterval(found.auc_after_interval)}`}
      </Text>
    </Box>
  );
}

const sayInterval = ([low, high]: [number, number]) => `${low.toFixed(2)}–${high.toFixed(2)}`;

function sayAuc(auc: number): string {
  if (auc >= 0.9) return "the field is told from the variants nearly always";
  if (auc >= 0.7) return "the field is often told from the variants";
  if (auc > 0.6) return "the field is sometimes told from the variants";
  return "the field can't be told from the variants";
}

function Key({ color, says, dashed }: { color: string; says: string; dashed?: boolean }) {
  return (
    <Flex align="center" gap={2}>
      <Box width="16px" height={dashed ? 0 : "9px"} {...(dashed ? { borderTop: `2px dashed ${color}` } : { bg: color, opacity: 0.75 })} />
      <Text>{says}</Text>
    </Flex>
  );
}

function ConditionPlot({ facts, suggested }: { facts: ConditionFacts; suggested: boolean }) {
  const lines = [
    { name: "training", values: facts.values.training, color: TRAINING },
    { name: "variants", values: facts.values.variants_before, color: VARIANTS },
    ...(suggested ? [{ name: "with the suggestion", values: facts.values.variants, color: VARIANTS, over: true }] : []),
    { name: "field", values: facts.values.field, color: FIELD },
  ];
  return (
    <Box data-condition={facts.name}>
      <Flex justify="space-between" align="baseline" gap={2}>
        <Text fontWeight={600}>
          {facts.name}{" "}
          <Text as="span" color="fg.muted" fontWeight={400} fontSize="small">
            {facts.unit}
          </Text>
        </Text>
        <Text
          fontSize="small"
          color={facts.covered_before < 0.95 ? "loss" : "fg.muted"}
          title="share of the field within 1-99 % of the variants"
        >
          {percent(facts.covered_before, 0)}
          {suggested && facts.covered_after !== facts.covered_before && (
            <Text as="span" color={facts.covered_after < 0.95 ? "loss" : "fg"}>
              {" "}
              → {percent(facts.covered_after, 0)}
            </Text>
          )}
        </Text>
      </Flex>
      <Ridges title={facts.name} unit={facts.unit} lines={lines} />
      <Flex justify="space-between" fontSize="caption" color="fg.muted" mt="-2px">
        <Text>← {facts.low}</Text>
        <Text>{facts.high} →</Text>
      </Flex>
    </Box>
  );
}

function Stop({ step, found, taken, take }: { step: SuggestedStep; found: MatchResult; taken: boolean; take: () => void }) {
  const reasons = found.evidence.filter((each) => each.step === step.id);
  return (
    <Box borderWidth="1px" borderRadius="md" bg="bg.raised" px={3} py={2} mb={2} data-suggested={step.id}>
      <Flex align="center" justify="space-between" gap={2}>
        <Text fontWeight={600}>{sayName(step.step)}</Text>
        <Button size="xs" variant="outline" disabled={taken} onClick={take} aria-label={`Take ${sayName(step.step)}`}>
          {taken ? "on the rail" : "Take"}
        </Button>
      </Flex>
      {reasons.map((each) => {
        const [low, high] = step[each.parameter] as [number, number];
        return (
          <Box key={each.parameter} mt={1}>
            <Text>
              {each.parameter.replaceAll("_", " ")} {low} to {high}
            </Text>
            <Text fontSize="small" color="fg.muted">
              {each.says}; {counted(found.pictures.field, "picture")} covered {percent(each.covered_before, 0)} →{" "}
              {percent(each.covered_after, 0)}
            </Text>
          </Box>
        );
      })}
    </Box>
  );
}
