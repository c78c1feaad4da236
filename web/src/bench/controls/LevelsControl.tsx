import { Button, Flex, Text } from "@chakra-ui/react";
import type { Parameter } from "../../api/client";
import { NumberField } from "../../shell/NumberField";

const CHANNELS = ["red", "green", "blue"];

/** One number for each channel, or none: then they are taken from the dataset. */
export function LevelsControl({
  parameter,
  value,
  change,
}: {
  parameter: Parameter;
  value: number[] | null;
  change: (value: number[] | null) => void;
}) {
  if (value === null) {
    return (
      <Flex align="center" gap={3}>
        <Text fontSize="small" color="fg.muted" flex="1">
          from the training split
        </Text>
        <Button size="xs" variant="outline" onClick={() => change(CHANNELS.map(() => 127.5))}>
          set by hand
        </Button>
      </Flex>
    );
  }
  return (
    <Flex direction="column" gap={2}>
      <Flex gap={2}>
        {CHANNELS.map((channel, place) => (
          <NumberField
            key={channel}
            label={`${parameter.name} ${channel}`}
            value={value[place] ?? 0}
            low={parameter.low ?? 0}
            high={parameter.high ?? 255}
            change={(typed) => typed !== null && change(value.map((old, other) => (other === place ? typed : old)))}
          />
        ))}
      </Flex>
      <Button size="xs" variant="outline" alignSelf="flex-start" onClick={() => change(null)}>
        from the training split
      </Button>
    </Flex>
  );
}
