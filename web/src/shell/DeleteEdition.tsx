import { Button, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, type Edition, take } from "../api/client";
import { may } from "../state/session";
import { DeleteDialog } from "./DeleteDialog";

/** Takes an edition away for good, after saying what goes with it. */
export function DeleteEdition({ edition }: { edition: Edition }) {
  const [asking, setAsking] = useState(false);
  if (!may.administer) return null;
  return (
    <>
      <Button size="xs" variant="outline" colorPalette="gray" onClick={() => setAsking(true)}>
        Delete this edition
      </Button>
      {asking && <Asking edition={edition} close={() => setAsking(false)} />}
    </>
  );
}

function Asking({ edition, close }: { edition: Edition; close: () => void }) {
  const done = edition.state === "done";
  return (
    <DeleteDialog
      name={edition.name}
      remove={() => take(api.DELETE("/api/editions/{id}", { params: { path: { id: edition.id } } }))}
      says={done ? `Delete ${edition.done} images` : "Remove"}
      to="/editions"
      changed={["editions", "trials"]}
      close={close}
    >
      <Text>
        {done
          ? "Its folder is deleted with all images, labels, rows and scores. Dataset and pipeline stay: the same order makes the same images again, but not the scores."
          : "It is removed from the list, with everything written for it."}
      </Text>
      {done && (
        <Text color="fg.muted" fontSize="small" mt={2} overflowWrap="anywhere">
          {edition.path}
        </Text>
      )}
    </DeleteDialog>
  );
}
