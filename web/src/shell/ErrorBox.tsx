import { Box, Flex } from "@chakra-ui/react";
import { TriangleAlert } from "lucide-react";
import { Refusal } from "../api/client";

/** An error as something to act on: what happened, all problems, what stays as it was. */
export function ErrorBox({ error, children }: { error: unknown; children?: React.ReactNode }) {
  const lines =
    error instanceof Refusal && error.problems.length ? error.problems : [error instanceof Error ? error.message : String(error)];
  return (
    <Flex
      role="alert"
      align="flex-start"
      gap={2}
      px={3}
      py={2}
      borderWidth="1px"
      borderColor="loss"
      borderRadius="4px"
      overflowWrap="anywhere"
    >
      <Box flex="none" mt="2px" color="loss">
        <TriangleAlert size={16} />
      </Box>
      <Box minWidth={0}>
        {lines.map((line) => (
          <p key={line}>{line}</p>
        ))}
        {children}
      </Box>
    </Flex>
  );
}
