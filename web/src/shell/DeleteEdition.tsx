import { Button, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type Edition, take } from "../api/client";
import { refresh } from "../api/queries";
import { PageDialog } from "../shell/Dialog";
import { ErrorBox } from "../shell/ErrorBox";
import { may } from "../state/session";

/** Takes an edition away for good, after saying what goes with it. */
export function DeleteEdition({ edition }: { edition: Edition }) {
  const [asking, setAsking] = useState(false);
  if (!may.keep) return null;
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
  const client = useQueryClient();
  const navigate = useNavigate();
  const remove = useMutation({
    mutationFn: () => take(api.DELETE("/api/editions/{id}", { params: { path: { id: edition.id } } })),
    onSuccess: async () => {
      close();
      await navigate("/editions");
      await refresh(client, "editions", "trials");
    },
  });
  const done = edition.state === "done";
  return (
    <PageDialog
      title={`Delete “${edition.name}”?`}
      close={close}
      footer={
        <>
          <Button colorPalette="gray" variant="ghost" size="sm" onClick={close}>
            Keep it
          </Button>
          <Button colorPalette="red" size="sm" loading={remove.isPending} onClick={() => remove.mutate()}>
            {done ? `Delete ${edition.done} images` : "Remove"}
          </Button>
        </>
      }
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
      {remove.error && <ErrorBox error={remove.error} />}
    </PageDialog>
  );
}
