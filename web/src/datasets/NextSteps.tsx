import { Button } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, type Dataset, take } from "../api/client";
import { askStartingPoints, openNext, refresh } from "../api/queries";
import { ErrorBox } from "../shell/PageState";
import { useView } from "../state/view";

/** Lay this dataset on the bench and go there. */
export function OpenOnBench({ dataset }: { dataset: number }) {
  const go = useNavigate();
  return (
    <Button
      size="xs"
      variant="outline"
      flex="none"
      onClick={() => {
        useView.setState({ dataset, large: null, alone: null });
        void go("/");
      }}
    >
      Open on the bench
    </Button>
  );
}

/** The starting point for what a dataset's labels are. */
function taskOf(dataset: Dataset): string {
  if (dataset.keypoints?.length) return "keypoints";
  if (dataset.map_classes?.length) return "segmentation";
  return dataset.splits.some((split) => split.objects > 0) ? "detection" : "classification";
}

/** Begin a pipeline that suits a dataset, and open both on the bench. */
export function StartPipeline({ dataset }: { dataset: Dataset }) {
  const go = useNavigate();
  const client = useQueryClient();
  const points = useQuery(askStartingPoints);
  const point = points.data?.find((each) => each.task === taskOf(dataset));
  const begin = useMutation({
    mutationFn: () => take(api.POST("/api/pipelines", { body: { document: { ...point?.document, name: dataset.name.slice(0, 120) } } })),
    onSuccess: async (revision) => {
      openNext(revision.pipeline);
      useView.setState({ dataset: dataset.id, large: null, alone: null });
      await refresh(client, "pipelines");
      void go("/");
    },
  });
  return (
    <>
      <Button size="xs" colorPalette="amber" flex="none" disabled={!point || begin.isPending} onClick={() => begin.mutate()}>
        Start a pipeline for this
      </Button>
      {begin.error && <ErrorBox error={begin.error} />}
    </>
  );
}
