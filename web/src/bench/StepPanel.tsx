import { Box, Button, Flex, IconButton, Switch, Text } from "@chakra-ui/react";
import { CopyPlus, Focus, RotateCcw, Trash2 } from "lucide-react";
import { memo } from "react";
import type { Dataset, ImageRow, Parameter, PipelineDocument, PipelineStep, StepFacts } from "../api/client";
import { changeStep, duplicateStep, removeStep } from "../state/draft";
import { useView } from "../state/view";
import { inOrderOfThought, sayName } from "../words/steps";
import { Control } from "./controls/Control";
import { hasStrip, RangeStrip } from "./RangeStrip";
import "./steps.css";

interface Props {
  step: PipelineStep | undefined;
  catalogue: StepFacts[];
  dataset: Dataset;
  document: PipelineDocument;
  /** The image the strip shows. */
  image: ImageRow | undefined;
  /** The sheet has its labels; until then the strip waits, unless a slider is held. */
  ready: boolean;
}

/** The chosen step's parameters, built from its description in the catalogue. */
export const StepPanel = memo(function StepPanel({ step, catalogue, dataset, document, image, ready }: Props) {
  const focus = useView((view) => view.focus);
  const facts = catalogue.find((each) => each.step === step?.step);
  if (!step || !facts) {
    return (
      <Box p={4} color="fg.muted">
        <Text>Select a stop on the rail to see what it does and change it, or add one with A.</Text>
      </Box>
    );
  }
  const { main, rare } = inOrderOfThought(facts, step);
  const own = [...main, ...rare].filter((parameter) => !["probability", "scope"].includes(parameter.name));
  const control = (parameter: Parameter) => (
    <StepControl
      key={`${step.id}-${parameter.name}`}
      id={step.id}
      parameter={parameter}
      catalogue={catalogue}
      value={step[parameter.name]}
    />
  );
  const stripped = own.find((parameter) => focus?.step === step.id && focus.parameter === parameter.name && hasStrip(parameter));
  const strip = stripped ?? own.find(hasStrip);
  return (
    <section aria-label={`Step ${sayName(step.step)}`} className="step-panel">
      <Head id={step.id} facts={facts} enabled={step.enabled} />
      {strip && image !== undefined && step.step !== "junction" && (
        <RangeStrip
          key={`${step.id}-${strip.name}`}
          dataset={dataset}
          document={document}
          image={image}
          step={step}
          parameter={strip}
          ready={ready}
        />
      )}
      <div className="step-controls" data-off={!step.enabled || undefined}>
        {main.map(control)}
        {rare.length > 0 && (
          <details key={step.id} className="step-more">
            <summary>more</summary>
            <div className="step-controls">{rare.map(control)}</div>
          </details>
        )}
      </div>
      <Actions id={step.id} facts={facts} />
    </section>
  );
});

/** What the step is, and whether it is on. */
const Head = memo(function Head({ id, facts, enabled }: { id: string; facts: StepFacts; enabled: boolean }) {
  return (
    <>
      <Flex align="center" gap={2}>
        <Text as="h2" fontWeight={650} fontSize="heading">
          {sayName(facts.step)}
        </Text>
        <Text color="fg.muted" fontSize="small" flex="1" truncate>
          {id}
        </Text>
        <Switch.Root size="sm" checked={enabled} onCheckedChange={({ checked }) => changeStep(id, { enabled: checked })}>
          <Switch.HiddenInput aria-label="Step is on" />
          <Switch.Control />
          <Switch.Label>{enabled ? "on" : "off"}</Switch.Label>
        </Switch.Root>
      </Flex>
      <Text color="fg.muted" fontSize="small" mt={1} mb={4}>
        {facts.meaning}
      </Text>
    </>
  );
});

/** What can be done with a step as a whole. */
const Actions = memo(function Actions({ id, facts }: { id: string; facts: StepFacts }) {
  const solo = useView((view) => view.solo);
  const reset = () => changeStep(id, Object.fromEntries(facts.parameters.map((parameter) => [parameter.name, parameter.default])));
  return (
    <Flex mt={6} gap={2}>
      <Button colorPalette="gray" size="xs" variant="outline" onClick={reset}>
        <RotateCcw size={13} /> Defaults
      </Button>
      <Button
        colorPalette={solo === id ? "amber" : "gray"}
        size="xs"
        variant="outline"
        aria-pressed={solo === id}
        title="Show only this step (S)"
        onClick={() => useView.setState({ solo: solo === id ? null : id })}
      >
        <Focus size={13} /> Solo
      </Button>
      <IconButton
        colorPalette="gray"
        size="xs"
        variant="outline"
        aria-label="Duplicate this step"
        title="Duplicate this step (D)"
        onClick={() => useView.setState({ selected: duplicateStep(id) })}
      >
        <CopyPlus size={13} />
      </IconButton>
      <IconButton
        colorPalette="gray"
        size="xs"
        variant="outline"
        aria-label="Remove this step"
        title="Remove this step (Delete)"
        onClick={() => removeStep(id)}
      >
        <Trash2 size={13} />
      </IconButton>
    </Flex>
  );
});

interface ControlProps {
  /** The step's. */
  id: string;
  parameter: Parameter;
  catalogue: StepFacts[];
  value: unknown;
}

const StepControl = memo(function StepControl({ id, parameter, catalogue, value }: ControlProps) {
  const focus = () => useView.setState({ focus: { step: id, parameter: parameter.name } });
  return (
    <div onFocusCapture={focus} onPointerDownCapture={focus}>
      <Control
        parameter={parameter}
        catalogue={catalogue}
        value={value}
        change={(value) => {
          useView.setState({ held: null });
          changeStep(id, { [parameter.name]: value });
        }}
        hold={(values) => useView.setState({ held: { step: id, parameter: parameter.name, values } })}
      />
    </div>
  );
});
