import { Box, Text } from "@chakra-ui/react";
import { TriangleAlert } from "lucide-react";
import { Refusal } from "../api/client";

/** An error as something to act on: what happened, all problems, what stays as it was. */
export function ErrorBox({ error, children }: { error: unknown; children?: React.ReactNode }) {
  const lines =
    error instanceof Refusal && error.problems.length ? error.problems : [error instanceof Error ? error.message : String(error)];
  return (
    <Box role="alert" borderWidth="1px" borderColor="loss" borderRadius="4px" px={3} py={2} display="flex" gap={2} alignItems="flex-start">
      <Box color="loss" pt="2px">
        <TriangleAlert size={16} />
      </Box>
      <Box minWidth={0}>
        {lines.map((line) => (
          <Text key={line} overflowWrap="anywhere">
            {line}
          </Text>
        ))}
        {children}
      </Box>
    </Box>
  );
}
