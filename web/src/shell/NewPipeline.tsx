import { Button, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { useState } from "react";
import { api, type PipelineDocument, type Schemas, take } from "../api/client";
import { askStartingPoints, openNext, refresh } from "../api/queries";
import { may } from "../state/session";
import { sayName } from "../words/steps";
import { PageDialog } from "./Dialog";
import { ErrorBox } from "./ErrorBox";
import "./new-pipeline.css";

type StartingPoint = Schemas["StartingPoint"];

interface Props {
  label?: string;
  /** Whether the label gives way where the window is narrow. */
  shrinks?: boolean;
  /** Told once it is there and will be opened next. */
  opened: () => void;
}

/** Begin another pipeline, empty or from a starting point. */
export function NewPipeline({ label = "New pipeline", shrinks = false, opened }: Props) {
  const [choosing, setChoosing] = useState(false);
  if (!may.edit) return null;
  return (
    <>
      <Button size="xs" variant="outline" flex="none" title="Begin another pipeline" aria-label={label} onClick={() => setChoosing(true)}>
        <Plus size={13} /> <span className={shrinks ? "where-wide" : undefined}>{label}</span>
      </Button>
      {choosing && (
        <Choices
          close={() => setChoosing(false)}
          opened={() => {
            setChoosing(false);
            opened();
          }}
        />
      )}
    </>
  );
}

function Choices({ close, opened }: { close: () => void; opened: () => void }) {
  const client = useQueryClient();
  const points = useQuery(askStartingPoints);
  const begin = useMutation({
    mutationFn: ({ document }: StartingPoint) => take(api.POST("/api/pipelines", { body: { document } })),
    onSuccess: async (revision) => {
      openNext(revision.pipeline);
      await refresh(client, "pipelines");
      opened();
    },
  });
  return (
    <PageDialog title="New pipeline" size="lg" close={close}>
      {(points.error ?? begin.error) && <ErrorBox error={points.error ?? begin.error} />}
      <div className="starting-points">
        {points.data?.map((point) => (
          <button type="button" key={point.task} className="starting-point" disabled={begin.isPending} onClick={() => begin.mutate(point)}>
            <span className="starting-task">{point.task}</span>
            <span>{point.why}</span>
            <span className="starting-steps">{stepsOf(point)}</span>
          </button>
        ))}
      </div>
      {points.isPending && <Text color="fg.muted">Loading the starting points…</Text>}
    </PageDialog>
  );
}

/** The steps of a starting point, in words. */
function stepsOf({ document }: StartingPoint): string {
  return (document as unknown as PipelineDocument).steps.map((step) => sayName(step.step)).join(" → ");
}
