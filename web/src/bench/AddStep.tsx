import { Button } from "@chakra-ui/react";
import { Plus } from "lucide-react";
import { memo, useCallback, useEffect, useRef, useState } from "react";
import type { Dataset, ImageRow, StepFacts } from "../api/client";
import { isTyping } from "../shell/use-browser";
import { lazyPart } from "../shell/views";
import { addStep } from "../state/draft";
import { useView } from "../state/view";

const StepChoices = lazyPart(async () => (await import("./StepChoices")).StepChoices);

interface Props {
  catalogue: StepFacts[];
  dataset: Dataset;
  /** The picture that shows what each step does. */
  image: ImageRow | undefined;
}

/** Find a step by looking at what it does, and put it on the rail. */
export const AddStep = memo(function AddStep({ catalogue, dataset, image }: Props) {
  const [open, setOpen] = useState(false);
  const before = useRef<Element | null>(null);
  const addedStep = useRef<string | null>(null);
  const start = useCallback(() => {
    before.current = window.document.activeElement;
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
  // Keys go on where they were, or at the step that was added; the dialog keeps the focus to itself until it is gone.
  const gone = useCallback(() => {
    const added = addedStep.current && window.document.querySelector(`[data-stop="${addedStep.current}"]`);
    addedStep.current = null;
    const next = added || before.current;
    if (next instanceof HTMLElement) next.focus();
  }, []);
  const close = useCallback(() => setOpen(false), []);
  const add = useCallback((facts: StepFacts) => {
    addedStep.current = addStep(facts);
    useView.setState({ selected: addedStep.current });
    setOpen(false);
  }, []);
  return (
    <>
      <Button size="xs" variant="outline" flex="none" title="Add a step (A)" onClick={start}>
        <Plus size={14} /> Step
      </Button>
      <StepChoices open={open} close={close} gone={gone} add={add} catalogue={catalogue} dataset={dataset} image={image} />
    </>
  );
});
