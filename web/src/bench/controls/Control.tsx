import { Box, Flex, NativeSelect, SegmentGroup, Switch, Text } from "@chakra-ui/react";
import type { Parameter, StepFacts } from "../../api/client";
import { NumberField } from "../../shell/NumberField";
import { sayParameter } from "../../words/steps";
import { BranchesControl } from "./BranchesControl";
import { ColorControl } from "./ColorControl";
import { EdgePicture } from "./EdgePicture";
import { LevelsControl } from "./LevelsControl";
import { RangeControl } from "./RangeControl";
import { SeveralControl } from "./SeveralControl";

interface Props {
  parameter: Parameter;
  catalogue: StepFacts[];
  value: unknown;
  change: (value: unknown) => void;
  hold?: ((values: number[]) => void) | undefined;
}

/** One parameter's control, chosen by what the catalogue says of it. */
export function Control(props: Props) {
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

const name = (parameter: Parameter) => (parameter.name === "scope" ? "applies to" : sayParameter(parameter));

function Body({ parameter, catalogue, value: given, change, hold }: Props) {
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
          options={options.map((option) => ({ value: option, label: option }))}
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
  change: Props["change"];
  hold: Props["hold"];
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
            {option.replaceAll("_", " ")}
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
