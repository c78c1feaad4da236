import { Box, Button, Flex, Progress, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { api, take } from "../api/client";
import { askDatasets, askImport, refresh } from "../api/queries";
import { ErrorBox } from "../shell/PageState";
import { ImportChooser } from "./ImportChooser";
import type { DatasetImport } from "./imports";
import { OpenOnBench, StartPipeline } from "./NextSteps";

const RUNNING = ["waiting", "reading"];

/** What was recognised, the choices that change its meaning, and then how far it has come in. */
export function ImportCard({ first, close }: { first: DatasetImport; close: () => void }) {
  const client = useQueryClient();
  const [started, setStarted] = useState(false);
  const watched = useQuery({
    ...askImport(first.id),
    enabled: started,
    refetchInterval: ({ state }) => (!state.data || RUNNING.includes(state.data.state ?? "") ? 300 : false),
  });
  const done = watched.data?.state === "done";
  useEffect(() => {
    if (done) void refresh(client, "datasets");
  }, [done, client]);
  const cancel = useMutation({
    mutationFn: () => take(api.DELETE("/api/imports/{id}", { params: { path: { id: first.id } } })),
    onSuccess: () => (started ? refresh(client, ["import", first.id]) : close()),
  });
  const incoming = started ? (watched.data ?? first) : first;
  return (
    <Box as="section" aria-label="What was recognised" borderWidth="1px" borderRadius="4px" px={4} py={4} mb={6} maxWidth="1010px">
      {started ? (
        <Arriving incoming={incoming} cancel={() => cancel.mutate()} close={close} />
      ) : (
        <ImportChooser incoming={first} start={() => setStarted(true)} cancel={() => cancel.mutate()} />
      )}
    </Box>
  );
}

/** What one does with a new dataset. */
function Next({ dataset }: { dataset: number }) {
  const datasets = useQuery(askDatasets);
  const found = datasets.data?.find((each) => each.id === dataset);
  return (
    <>
      <OpenOnBench dataset={dataset} />
      {found && <StartPipeline dataset={found} />}
    </>
  );
}

function Arriving({ incoming, cancel, close }: { incoming: DatasetImport; cancel: () => void; close: () => void }) {
  if (incoming.state === "failed")
    return (
      <>
        <ErrorBox error={new Error(incoming.message)}>
          <Text color="fg.muted">Nothing was imported.</Text>
        </ErrorBox>
        <Button size="xs" variant="outline" mt={3} onClick={close}>
          Import another
        </Button>
      </>
    );
  if (incoming.state === "cancelled" || incoming.state === "done")
    return (
      <Flex align="center" gap={4}>
        <Text role="status">
          {incoming.state === "cancelled" ? (
            `${incoming.name} was not imported; nothing was kept.`
          ) : (
            <>
              {incoming.name} is imported.{" "}
              <Link to={`/datasets/${incoming.dataset}`} style={{ textDecoration: "underline" }}>
                Open it and its findings
              </Link>
            </>
          )}
        </Text>
        <Flex ml="auto" gap={2}>
          {incoming.state === "done" && incoming.dataset && <Next dataset={incoming.dataset} />}
          <Button size="xs" variant="outline" onClick={close}>
            Import another
          </Button>
        </Flex>
      </Flex>
    );
  return (
    <>
      <Progress.Root value={incoming.done ?? 0} max={Math.max(incoming.total ?? 1, 1)} size="sm" aria-label="Images imported">
        <Progress.Track bg="bg.emphasized">
          <Progress.Range bg="amber.solid" />
        </Progress.Track>
      </Progress.Root>
      <Flex mt={2} align="center">
        <Text role="status">
          {incoming.state === "reading" ? `${incoming.done} of ${incoming.total} images of ${incoming.name}` : "waiting in the queue"}
        </Text>
        <Button ml="auto" size="xs" variant="outline" onClick={cancel}>
          Cancel
        </Button>
      </Flex>
    </>
  );
}
