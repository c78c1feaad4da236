import { Box, Flex, SegmentGroup, Text } from "@chakra-ui/react";
import type { Parameter } from "../../api/client";
import { sayParameter } from "../values";
import { ColorControl } from "./ColorControl";
import { NumberField } from "./NumberField";
import { RangeControl } from "./RangeControl";

interface Props {
  parameter: Parameter;
  value: unknown;
  change: (value: unknown) => void;
}

/** One parameter's control, chosen by what the catalogue says of it. */
export function Control(props: Props) {
  const { parameter } = props;
  const name = parameter.name === "scope" ? "applies to" : sayParameter(parameter);
  return (
    <Box role="group" aria-label={name}>
      <Flex justify="space-between" align="baseline" gap={3} mb={1.5} title={parameter.meaning}>
        <Text fontWeight={550}>{name}</Text>
        <Text fontSize="12px" color="fg.muted" truncate>
          {parameter.unit === name ? parameter.meaning : parameter.unit}
        </Text>
      </Flex>
      <Body {...props} />
    </Box>
  );
}

function Body({ parameter, value, change }: Props) {
  switch (parameter.control) {
    case "span":
      return <RangeControl parameter={parameter} value={value as [number, number]} change={change} />;
    case "number":
    case "probability":
      return <RangeControl parameter={parameter} value={value as number} change={change} />;
    case "whole":
      return <WholeControl parameter={parameter} value={value as number | null} change={change} />;
    case "color":
      return <ColorControl value={value as [number, number, number]} name={parameter.meaning} change={change} />;
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
    default:
      return (
        <Choice
          value={String(value)}
          options={(parameter.options ?? []).map((option) => ({ value: option, label: option }))}
          change={change}
        />
      );
  }
}

function Choice({
  value,
  options,
  change,
}: {
  value: string;
  options: { value: string; label: string }[];
  change: (value: string) => void;
}) {
  return (
    <SegmentGroup.Root size="sm" width="100%" value={value} onValueChange={(details) => details.value && change(details.value)}>
      <SegmentGroup.Indicator bg="amber.muted" borderWidth="1px" borderColor="amber.border" boxShadow="none" />
      <SegmentGroup.Items items={options} flex="1" justifyContent="center" px={1} />
    </SegmentGroup.Root>
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
        <Text fontSize="12px" color="fg.muted">
          as the picture comes in
        </Text>
      )}
    </Flex>
  );
}
