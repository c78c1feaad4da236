import { Button, Dialog, Flex, Input, Portal, Text } from "@chakra-ui/react";
import { Plus } from "lucide-react";
import { memo, useCallback, useEffect, useMemo, useState } from "react";
import type { StepFacts } from "../api/client";
import { isTyping } from "../shell/keys";
import { addStep } from "../state/draft";
import { useView } from "../state/view";
import { sayName } from "../words/steps";
import "./steps.css";

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
  const start = useCallback(() => {
    setWords("");
    setOpen(true);
  }, []);
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() === "a" && !event.ctrlKey && !event.metaKey && !isTyping(event)) {
        event.preventDefault();
        start();
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, [start]);
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
  };
  return (
    <Dialog.Root lazyMount unmountOnExit open={open} onOpenChange={(change) => setOpen(change.open)} placement="top" size="md">
      <Button size="xs" variant="outline" onClick={start} title="Add a step (A)">
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
                  <button type="button" key={facts.step} className="step-choice" onClick={() => add(facts)}>
                    <span className="step-purpose">{PURPOSES[facts.purpose] ?? facts.purpose}</span>
                    <span>
                      <strong>{sayName(facts.step)}</strong>
                      <br />
                      {facts.meaning}
                    </span>
                  </button>
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
