import { Flex, Text } from "@chakra-ui/react";

/** A color as the system's own picker, its levels beside it. */
export function ColorControl({
  value,
  name,
  change,
}: {
  value: [number, number, number];
  name: string;
  change: (value: [number, number, number]) => void;
}) {
  const hex = `#${value.map((level) => level.toString(16).padStart(2, "0")).join("")}`;
  return (
    <Flex align="center" gap={3}>
      <input
        type="color"
        aria-label={name}
        value={hex}
        onChange={(event) => {
          const levels = [1, 3, 5].map((at) => Number.parseInt(event.target.value.slice(at, at + 2), 16));
          change(levels as [number, number, number]);
        }}
        style={{ width: 40, height: 26, padding: 0, border: "none", background: "none" }}
      />
      <Text fontSize="small" color="fg.muted">
        {value.join(", ")}
      </Text>
    </Flex>
  );
}
