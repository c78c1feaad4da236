import { Button, Flex } from "@chakra-ui/react";

/** One or more of a few whole numbers, each a button to switch on or off; the last one on stays on. */
export function SeveralControl({ options, value, change }: { options: number[]; value: number[]; change: (value: number[]) => void }) {
  return (
    <Flex gap={2}>
      {options.map((option) => {
        const on = value.includes(option);
        const next = on ? value.filter((other) => other !== option) : [...value, option].sort((a, b) => a - b);
        return (
          <Button
            key={option}
            size="xs"
            minWidth="44px"
            variant="outline"
            aria-pressed={on}
            bg={on ? "amber.muted" : undefined}
            borderColor={on ? "amber.border" : undefined}
            disabled={on && value.length === 1}
            _disabled={{ opacity: 1, cursor: "default" }}
            onClick={() => change(next)}
          >
            {option}
          </Button>
        );
      })}
    </Flex>
  );
}
