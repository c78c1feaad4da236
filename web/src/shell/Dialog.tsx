import { Box, Button, CloseButton, Dialog, Portal, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { useNavigate } from "react-router";
import { api, type Dataset, type Edition, take } from "../api/client";
import { askUses, refresh } from "../api/queries";
import { may } from "../state/session";
import { counted, sayBytes } from "../words/figures";
import { ErrorBox } from "./PageState";

interface DialogProps {
  title: string;
  size?: "sm" | "md" | "lg" | "xl" | "cover";
  /** Long contents scroll within the frame. */
  scrolls?: boolean;
  footer?: React.ReactNode;
  close: () => void;
  children: React.ReactNode;
}

/** A dialog over the page: a title, contents, perhaps buttons below; Escape and the cross close it. */
export function PageDialog({ title, size = "md", scrolls, footer, close, children }: DialogProps) {
  return (
    <Dialog.Root open onOpenChange={(change) => !change.open && close()} size={size} scrollBehavior={scrolls ? "inside" : "outside"}>
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content {...(size === "cover" ? { maxHeight: "calc(100vh - 40px)", marginBlock: "20px" } : {})}>
            <Dialog.Header pb={2}>
              <Dialog.Title fontSize="heading">{title}</Dialog.Title>
            </Dialog.Header>
            <Dialog.Body pb={footer ? 2 : 5}>{children}</Dialog.Body>
            {footer && <Dialog.Footer>{footer}</Dialog.Footer>}
            <Dialog.CloseTrigger asChild>
              <CloseButton colorPalette="gray" size="sm" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}

interface DeleteDialogProps {
  /** Of what is deleted. */
  name: string;
  remove: () => Promise<unknown>;
  /** What the button says. */
  says: string;
  /** False as long as it can't be deleted. */
  ready?: boolean;
  /** Where one goes from what is gone. */
  to: string;
  /** The lists that change. */
  changed: Parameters<typeof refresh>[1][];
  close: () => void;
  /** What goes with it, and what stays. */
  children: ReactNode;
}

/** Asks before something is deleted for good, and goes to the list it was in. */
export function DeleteDialog({ name, remove, says, ready = true, to, changed, close, children }: DeleteDialogProps) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const removal = useMutation({
    mutationFn: remove,
    onSuccess: async () => {
      close();
      await navigate(to);
      await refresh(client, ...changed);
    },
  });
  return (
    <PageDialog
      title={`Delete “${name}”?`}
      close={close}
      footer={
        <>
          <Button colorPalette="gray" variant="ghost" size="sm" onClick={close}>
            Keep it
          </Button>
          <Button colorPalette="red" size="sm" disabled={!ready} loading={removal.isPending} onClick={() => removal.mutate()}>
            {says}
          </Button>
        </>
      }
    >
      {removal.error && <ErrorBox error={removal.error} />}
      {children}
    </PageDialog>
  );
}

/** Takes a dataset away for good, after saying what that would break. */
export function DeleteDataset({ dataset }: { dataset: Dataset }) {
  const [asking, setAsking] = useState(false);
  if (!may.administer) return null;
  return (
    <>
      <Button size="xs" variant="ghost" colorPalette="gray" flex="none" onClick={() => setAsking(true)}>
        Delete
      </Button>
      {asking && <DeleteDatasetAsking dataset={dataset} close={() => setAsking(false)} />}
    </>
  );
}

function DeleteDatasetAsking({ dataset, close }: { dataset: Dataset; close: () => void }) {
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

/** Takes an edition away for good, after saying what goes with it. */
export function DeleteEdition({ edition }: { edition: Edition }) {
  const [asking, setAsking] = useState(false);
  if (!may.administer) return null;
  return (
    <>
      <Button size="xs" variant="outline" colorPalette="gray" onClick={() => setAsking(true)}>
        Delete this edition
      </Button>
      {asking && <DeleteEditionAsking edition={edition} close={() => setAsking(false)} />}
    </>
  );
}

function DeleteEditionAsking({ edition, close }: { edition: Edition; close: () => void }) {
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
