import { Button } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { useNavigate } from "react-router";
import { refresh } from "../api/queries";
import { PageDialog } from "./Dialog";
import { ErrorBox } from "./ErrorBox";

interface Props {
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
export function DeleteDialog({ name, remove, says, ready = true, to, changed, close, children }: Props) {
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
