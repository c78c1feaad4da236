import { Box, Button, Flex, IconButton, Switch, Text } from "@chakra-ui/react";
import { RotateCcw, Trash2 } from "lucide-react";
import type { PipelineStep, StepFacts } from "../api/client";
import { changeStep, removeStep } from "../state/draft";
import { Control } from "./controls/Control";
import { matters, sayName } from "./values";

/** The chosen step's parameters, built from its description in the catalogue. */
export function StepPanel({ step, facts }: { step: PipelineStep | undefined; facts: StepFacts | undefined }) {
  if (!step || !facts) {
    return (
      <Box p={4} color="fg.muted">
        <Text>Choose a stop on the rail to see what it does and change it, or add one with A.</Text>
      </Box>
    );
  }
  const common = ["probability", "scope"];
  const own = facts.parameters.filter((parameter) => !common.includes(parameter.name) && matters(parameter, step));
  const shared = facts.parameters.filter((parameter) => common.includes(parameter.name));
  const reset = () => changeStep(step.id, Object.fromEntries(facts.parameters.map((parameter) => [parameter.name, parameter.default])));
  return (
    <Box as="section" aria-label={`Step ${sayName(step.step)}`} px={4} py={3} overflowY="auto" height="100%">
      <Flex align="center" gap={2}>
        <Text as="h2" fontWeight={650} fontSize="16px">
          {sayName(step.step)}
        </Text>
        <Text color="fg.muted" fontSize="12px" flex="1" truncate>
          {step.id}
        </Text>
        <Switch.Root size="sm" checked={step.enabled} onCheckedChange={({ checked }) => changeStep(step.id, { enabled: checked })}>
          <Switch.HiddenInput aria-label="Step is on" />
          <Switch.Control />
          <Switch.Label>{step.enabled ? "on" : "off"}</Switch.Label>
        </Switch.Root>
      </Flex>
      <Text color="fg.muted" fontSize="12.5px" mt={1} mb={4}>
        {facts.meaning}
      </Text>
      <Flex direction="column" gap={5} opacity={step.enabled ? 1 : 0.55}>
        {[...own, ...shared].map((parameter) => (
          <Control
            key={`${step.id}-${parameter.name}`}
            parameter={parameter}
            value={step[parameter.name]}
            change={(value) => changeStep(step.id, { [parameter.name]: value })}
          />
        ))}
      </Flex>
      <Flex mt={6} gap={2}>
        <Button colorPalette="gray" size="xs" variant="outline" onClick={reset}>
          <RotateCcw size={13} /> Defaults
        </Button>
        <IconButton
          colorPalette="gray"
          size="xs"
          variant="outline"
          aria-label="Take this step out"
          title="Take this step out (Delete)"
          onClick={() => removeStep(step.id)}
        >
          <Trash2 size={13} />
        </IconButton>
      </Flex>
    </Box>
  );
}
