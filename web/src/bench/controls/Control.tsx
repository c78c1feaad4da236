import { Box, Button, Flex, IconButton, NativeSelect, SegmentGroup, Switch, Text } from "@chakra-ui/react";
import { Plus, Trash2 } from "lucide-react";
import { useState } from "react";
import type { Branch, Parameter, PipelineStep, StepFacts } from "../../api/client";
import { NumberField } from "../../shell/fields";
import { newStep } from "../../state/draft";
import { matters, sayName, sayOption, sayParameter, sayStep } from "../../words/steps";
import { ColorControl, EdgePicture, LevelsControl, SeveralControl } from "./choices";
import { RangeControl } from "./RangeControl";

interface ControlProps {
  parameter: Parameter;
  catalogue: StepFacts[];
  value: unknown;
  change: (value: unknown) => void;
  hold?: ((values: number[]) => void) | undefined;
}

/** One parameter's control, chosen by what the catalogue says of it. */
export function Control(props: ControlProps) {
  const { parameter } = props;
  return (
    <Box role="group" aria-label={name(parameter)}>
      <Flex justify="space-between" align="baseline" gap={3} mb={1.5} title={parameter.meaning}>
        <Text fontWeight={550} whiteSpace="nowrap">
          {name(parameter)}
        </Text>
        <Text fontSize="small" color="fg.muted" truncate>
          {parameter.unit === name(parameter) ? parameter.meaning : parameter.unit}
        </Text>
      </Flex>
      <Body {...props} />
    </Box>
  );
}

const name = sayParameter;

function Body({ parameter, catalogue, value: given, change, hold }: ControlProps) {
  // A parameter that came later stands in a pipeline only where it is used.
  const value = given === undefined ? parameter.default : given;
  switch (parameter.control) {
    case "span":
      if (parameter.default === null)
        return <OptionalRange parameter={parameter} value={(value ?? null) as [number, number] | null} change={change} hold={hold} />;
      return <RangeControl parameter={parameter} value={value as [number, number]} change={change} hold={hold} />;
    case "number":
    case "probability":
      return <RangeControl parameter={parameter} value={value as number} change={change} />;
    case "whole":
      return <WholeControl parameter={parameter} value={value as number | null} change={change} />;
    case "color":
      return <ColorControl value={value as [number, number, number]} name={parameter.meaning} change={change} />;
    case "several":
      return <SeveralControl options={(parameter.options ?? []).map(Number)} value={value as number[]} change={change} />;
    case "levels":
      return <LevelsControl parameter={parameter} value={value as number[] | null} change={change} />;
    case "branches":
      return <BranchesControl value={value as never} catalogue={catalogue} change={change} />;
    case "switch":
      return (
        <Switch.Root size="sm" checked={Boolean(value)} onCheckedChange={({ checked }) => change(checked)}>
          <Switch.HiddenInput aria-label={name(parameter)} />
          <Switch.Control />
          <Switch.Label fontWeight={400}>{value ? "yes" : "no"}</Switch.Label>
        </Switch.Root>
      );
    case "scope":
      return (
        <Choice
          value={String(value)}
          options={[
            { value: "train", label: "training only" },
            { value: "every", label: "every split" },
          ]}
          change={change}
        />
      );
    default: {
      const options = parameter.options ?? [];
      // Words stay words, numbers become numbers again.
      const typed = (chosen: string) => (typeof parameter.default === "number" ? Number(chosen) : chosen);
      return options.join("").length > 26 ? (
        <LongChoice value={String(value)} label={name(parameter)} options={options} change={(chosen) => change(typed(chosen))} />
      ) : (
        <Choice
          value={String(value)}
          options={options.map((option) => ({ value: option, label: sayOption(option) }))}
          edges={parameter.edges ?? false}
          change={(chosen) => change(typed(chosen))}
        />
      );
    }
  }
}

/** A range that another parameter stands in for until it is used. */
function OptionalRange({
  parameter,
  value,
  change,
  hold,
}: {
  parameter: Parameter;
  value: [number, number] | null;
  change: ControlProps["change"];
  hold: ControlProps["hold"];
}) {
  const [low = 0, high = 1] = parameter.slider ?? [];
  return (
    <>
      <Switch.Root
        size="sm"
        mb={value ? 2 : 0}
        checked={value !== null}
        onCheckedChange={({ checked }) => change(checked ? [low / 4, high / 4] : null)}
      >
        <Switch.HiddenInput aria-label={`use ${name(parameter)}`} />
        <Switch.Control />
        <Switch.Label fontWeight={400}>{value ? "used" : "not used"}</Switch.Label>
      </Switch.Root>
      {value && <RangeControl parameter={parameter} value={value} change={change} hold={hold} />}
    </>
  );
}

function Choice({
  value,
  options,
  edges = false,
  change,
}: {
  value: string;
  options: { value: string; label: string }[];
  /** The options are kinds of edges, each of which has a picture. */
  edges?: boolean;
  change: (value: string) => void;
}) {
  return (
    <SegmentGroup.Root size="sm" width="100%" value={value} onValueChange={(details) => details.value && change(details.value)}>
      <SegmentGroup.Indicator bg="amber.muted" borderWidth="1px" borderColor="amber.border" boxShadow="none" />
      <SegmentGroup.Items
        items={edges ? options.map(({ value, label }) => ({ value, label: <Edge name={label} edges={value} /> })) : options}
        flex="1"
        {...(edges ? { height: "auto" } : {})}
        justifyContent="center"
        px={1}
      />
    </SegmentGroup.Root>
  );
}

function Edge({ name, edges }: { name: string; edges: string }) {
  return (
    <Flex as="span" direction="column" align="center" gap={1} py={1}>
      <EdgePicture edges={edges} />
      {name}
    </Flex>
  );
}

/** More words than fit side by side. */
function LongChoice({
  value,
  label,
  options,
  change,
}: {
  value: string;
  label: string;
  options: string[];
  change: (value: string) => void;
}) {
  return (
    <NativeSelect.Root size="sm">
      <NativeSelect.Field aria-label={label} value={value} onChange={(event) => change(event.target.value)}>
        {options.map((option) => (
          <option key={option} value={option}>
            {sayOption(option).replaceAll("_", " ")}
          </option>
        ))}
      </NativeSelect.Field>
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
}

function WholeControl({
  parameter,
  value,
  change,
}: {
  parameter: Parameter;
  value: number | null;
  change: (value: number | null) => void;
}) {
  return (
    <Flex gap={2} align="center">
      <NumberField
        label={parameter.meaning}
        value={value}
        low={parameter.low ?? 0}
        high={parameter.high ?? 1e6}
        whole
        optional={parameter.default === null}
        change={change}
      />
      {parameter.default === null && value === null && (
        <Text fontSize="small" color="fg.muted">
          unchanged
        </Text>
      )}
    </Flex>
  );
}

interface BranchesControlProps {
  value: Branch[];
  catalogue: StepFacts[];
  change: (value: Branch[]) => void;
}

/** The branches of a junction: how often each is taken, and its steps, each of which opens for changing. */
export function BranchesControl({ value, catalogue, change }: BranchesControlProps) {
  const [open, setOpen] = useState("");
  const whole = value.reduce((sum, branch) => sum + branch.weight, 0);
  const put = (place: number, branch: Partial<Branch>) =>
    change(value.map((old, other) => (other === place ? { ...old, ...branch } : old)));
  return (
    <Flex direction="column" gap={3}>
      {value.map((branch, place) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a branch has no name but its place
        <Box key={place} borderLeftWidth="2px" borderColor="fg.muted" pl={3} role="group" aria-label={`Branch ${place + 1}`}>
          <Flex align="center" gap={2}>
            <Text fontWeight={550} flex="1">
              {Math.round((branch.weight / whole) * 100)} % of the time
            </Text>
            <Text fontSize="small" color="fg.muted">
              weight
            </Text>
            <NumberField
              label={`weight of branch ${place + 1}`}
              value={branch.weight}
              low={0.001}
              high={1000}
              width="60px"
              change={(weight) => weight !== null && put(place, { weight })}
            />
            {value.length > 1 && (
              <IconButton
                size="xs"
                variant="ghost"
                aria-label={`Remove branch ${place + 1}`}
                onClick={() => change(value.filter((_, other) => other !== place))}
              >
                <Trash2 size={13} />
              </IconButton>
            )}
          </Flex>
          {branch.steps.length === 0 && (
            <Text fontSize="small" color="fg.muted" my={1}>
              straight through
            </Text>
          )}
          {branch.steps.map((step) => {
            const facts = catalogue.find((each) => each.step === step.step);
            const steps = (next: PipelineStep[]) => put(place, { steps: next });
            return (
              <Box key={step.id} my={1.5}>
                <Flex align="center" gap={1}>
                  <Button
                    size="xs"
                    variant="ghost"
                    flex="1"
                    minWidth={0}
                    px={1}
                    justifyContent="flex-start"
                    aria-expanded={open === step.id}
                    onClick={() => setOpen(open === step.id ? "" : step.id)}
                  >
                    <Text fontWeight={600}>{sayName(step.step)}</Text>
                    <Text color="fg.muted" fontWeight={400} truncate>
                      {sayStep(step, facts)}
                    </Text>
                  </Button>
                  <IconButton
                    size="xs"
                    variant="ghost"
                    aria-label={`Remove ${sayName(step.step)}`}
                    onClick={() => steps(branch.steps.filter((other) => other.id !== step.id))}
                  >
                    <Trash2 size={13} />
                  </IconButton>
                </Flex>
                {open === step.id && (
                  <Flex direction="column" gap={4} pl={1} py={2}>
                    {facts?.parameters
                      .filter((parameter) => parameter.name !== "scope" && matters(parameter, step, facts))
                      .map((parameter) => (
                        <Control
                          key={parameter.name}
                          parameter={parameter}
                          catalogue={catalogue}
                          value={step[parameter.name]}
                          change={(next) =>
                            steps(
                              branch.steps.map((other) =>
                                other.id === step.id ? ({ ...other, [parameter.name]: next } as PipelineStep) : other,
                              ),
                            )
                          }
                        />
                      ))}
                  </Flex>
                )}
              </Box>
            );
          })}
          <NativeSelect.Root size="xs" width="150px">
            <NativeSelect.Field
              aria-label={`Add a step to branch ${place + 1}`}
              value=""
              onChange={(event) => {
                const facts = catalogue.find((each) => each.step === event.target.value);
                if (!facts) return;
                const step = newStep(facts);
                put(place, { steps: [...branch.steps, step] });
                setOpen(step.id);
              }}
            >
              <option value="">add a step …</option>
              {catalogue
                .filter((facts) => !["normalize", "junction"].includes(facts.step))
                .map((facts) => (
                  <option key={facts.step} value={facts.step}>
                    {sayName(facts.step)}
                  </option>
                ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Box>
      ))}
      <Button
        size="xs"
        variant="outline"
        alignSelf="flex-start"
        disabled={value.length >= 16}
        onClick={() => change([...value, { weight: 1, steps: [] }])}
      >
        <Plus size={13} /> Branch
      </Button>
    </Flex>
  );
}
