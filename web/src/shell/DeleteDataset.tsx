import { Box, Button, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Dataset, take } from "../api/client";
import { askUses } from "../api/queries";
import { may } from "../state/session";
import { counted, sayBytes } from "../words/figures";
import { DeleteDialog } from "./DeleteDialog";
import { ErrorBox } from "./ErrorBox";

/** Takes a dataset away for good, after saying what that would break. */
export function DeleteDataset({ dataset }: { dataset: Dataset }) {
  const [asking, setAsking] = useState(false);
  if (!may.administer) return null;
  return (
    <>
      <Button size="xs" variant="ghost" colorPalette="gray" flex="none" onClick={() => setAsking(true)}>
        Delete
      </Button>
      {asking && <Asking dataset={dataset} close={() => setAsking(false)} />}
    </>
  );
}

function Asking({ dataset, close }: { dataset: Dataset; close: () => void }) {
  const uses = useQuery(askUses(dataset.id));
  const found = uses.data;
  const busy = (found?.jobs.length ?? 0) > 0;
  return (
    <DeleteDialog
      name={dataset.name}
      remove={() => take(api.DELETE("/api/datasets/{id}", { params: { path: { id: dataset.id }, query: { sure: true } } }))}
      says={`Delete ${found ? `and free ${sayBytes(found.bytes)}` : ""}`}
      ready={found !== undefined && !busy}
      to="/datasets"
      changed={["datasets", "editions", "trials"]}
      close={close}
    >
      {uses.error && <ErrorBox error={uses.error} />}
      {!found && !uses.error && <Text color="fg.muted">Looking what needs it…</Text>}
      {found && (
        <Box>
          <Text>
            Its labels, its edits and {counted(found.pictures, "picture")} that nothing else shows are deleted.
            {found.inquiries > 0 &&
              ` So ${found.inquiries === 1 ? "is" : "are"} ${counted(found.inquiries, "match or probe", "matches and probes")} about it.`}
          </Text>
          {busy && (
            <Text color="loss" mt={2}>
              It is in use: {found.jobs.join(", ")}. Cancel that first, or wait for it.
            </Text>
          )}
          {found.editions.length > 0 && (
            <Box mt={3} borderLeftWidth="3px" borderColor="loss" pl={3}>
              <Text fontWeight={600}>
                {counted(found.editions.length, "edition")} made from it stay, but can no longer be recreated from here:
              </Text>
              <Text>{found.editions.join(", ")}</Text>
            </Box>
          )}
        </Box>
      )}
    </DeleteDialog>
  );
}
