import { Box, Button, Dialog, Flex, Input, Portal, Text } from "@chakra-ui/react";
import { Plus } from "lucide-react";
import { memo, useEffect, useMemo, useState } from "react";
import type { StepFacts } from "../api/client";
import { isTyping } from "../shell/keys";
import { addStep } from "../state/draft";
import { useView } from "../state/view";
import { sayName } from "./values";

const PURPOSES: Record<string, string> = {
  move: "Move",
  light: "Light",
  texture: "Texture",
  hide: "Hide",
  combine: "Combine",
  fit: "Fit",
};

/** Find a step by what it does and put it on the rail. */
export const AddStep = memo(function AddStep({ catalogue }: { catalogue: StepFacts[] }) {
  const [open, setOpen] = useState(false);
  const [words, setWords] = useState("");
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() === "a" && !event.ctrlKey && !event.metaKey && !isTyping(event)) {
        event.preventDefault();
        setOpen(true);
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  const found = useMemo(() => {
    const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
    return catalogue.filter((facts) => {
      const text = `${sayName(facts.step)} ${facts.purpose} ${facts.meaning}`.toLowerCase();
      return wanted.every((word) => text.includes(word));
    });
  }, [catalogue, words]);
  const add = (facts: StepFacts) => {
    useView.setState({ selected: addStep(facts) });
    setOpen(false);
    setWords("");
  };
  return (
    <Dialog.Root open={open} onOpenChange={(change) => setOpen(change.open)} placement="top" size="md">
      <Button size="xs" variant="outline" onClick={() => setOpen(true)} title="Add a step (A)">
        <Plus size={14} /> Step
      </Button>
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content aria-label="Add a step">
            <Dialog.Body p={3}>
              <Input
                autoFocus
                aria-label="Find a step"
                placeholder="Find a step by what it does"
                value={words}
                onChange={(event) => setWords(event.target.value)}
                onKeyDown={(event) => {
                  const first = found[0];
                  if (event.key === "Enter" && first) add(first);
                }}
              />
              <Flex direction="column" mt={2} maxHeight="60vh" overflowY="auto">
                {found.map((facts) => (
                  <Button
                    key={facts.step}
                    variant="ghost"
                    height="auto"
                    py={2}
                    justifyContent="flex-start"
                    whiteSpace="normal"
                    textAlign="left"
                    onClick={() => add(facts)}
                  >
                    <Box width="64px" flex="none" color="fg.muted" fontSize="12px" fontWeight={400}>
                      {PURPOSES[facts.purpose] ?? facts.purpose}
                    </Box>
                    <Box>
                      <Text fontWeight={600}>{sayName(facts.step)}</Text>
                      <Text color="fg.muted" fontWeight={400} fontSize="13px">
                        {facts.meaning}
                      </Text>
                    </Box>
                  </Button>
                ))}
                {found.length === 0 && (
                  <Text color="fg.muted" p={3}>
                    No step is described by these words.
                  </Text>
                )}
              </Flex>
            </Dialog.Body>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
});
