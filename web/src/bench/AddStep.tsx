import { Plus } from "lucide-react";
import { memo, useCallback, useEffect, useState } from "react";
import type { Dataset, ImageRow, StepFacts } from "../api/client";
import { furnished } from "../shell/furnished";
import { isTyping } from "../shell/keys";
import { addStep } from "../state/draft";
import { useView } from "../state/view";
import "../shell/plain-button.css";

const StepChoices = furnished(async () => (await import("./StepChoices")).StepChoices);

interface Props {
  catalogue: StepFacts[];
  dataset: Dataset;
  /** The picture that shows what each step does. */
  image: ImageRow | undefined;
}

/** Find a step by looking at what it does, and put it on the rail. */
export const AddStep = memo(function AddStep({ catalogue, dataset, image }: Props) {
  const [open, setOpen] = useState(false);
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
  const close = useCallback(() => setOpen(false), []);
  const add = useCallback((facts: StepFacts) => {
    useView.setState({ selected: addStep(facts) });
    setOpen(false);
  }, []);
  return (
    <>
      <button type="button" className="plain-button" data-outlined title="Add a step (A)" onClick={() => setOpen(true)}>
        <Plus size={14} /> Step
      </button>
      <StepChoices open={open} close={close} add={add} catalogue={catalogue} dataset={dataset} image={image} />
    </>
  );
});
