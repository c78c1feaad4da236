import { Box, Button, Flex, Text } from "@chakra-ui/react";
import { Copy } from "lucide-react";
import { useState } from "react";

/** A secret that is told this once, with a way to take it along. */
export function ShownOnce({ name, text, says }: { name: string; text: string; says: string }) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(text);
    setCopied(true);
  };
  return (
    <Box role="status" borderLeftWidth="3px" borderColor="amber.solid" bg="bg.sunken" px={4} py={3} mt={3}>
      <Flex align="center" gap={3}>
        <Text as="code" aria-label={name} fontFamily="mono" fontSize="small" overflowWrap="anywhere" userSelect="all" flex="1">
          {text}
        </Text>
        {navigator.clipboard && (
          <Button size="xs" variant="outline" onClick={() => void copy()}>
            <Copy size={13} /> {copied ? "Copied" : "Copy"}
          </Button>
        )}
      </Flex>
      <Text color="fg.muted" fontSize="small" mt={1}>
        {says}
      </Text>
    </Box>
  );
}
