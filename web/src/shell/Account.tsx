import { Button, Field, Flex, IconButton, Input, Popover, Portal, Text } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { UserRound } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { api, take } from "../api/client";
import { may, SAY_MAY, session } from "../state/session";
import { PageDialog } from "./Dialog";
import { ErrorBox } from "./PageState";

/** Who is signed in, in the header: what that one may do, another password, and the way out. */
export function Account() {
  const [open, setOpen] = useState(false);
  const [changing, setChanging] = useState(false);
  const leave = useMutation({
    mutationFn: () => take(api.DELETE("/api/session")),
    onSuccess: () => location.assign("/"),
  });
  if (!session.sign_in || !session.role) return null;
  return (
    <>
      <Popover.Root
        open={open}
        onOpenChange={(change) => setOpen(change.open)}
        positioning={{ placement: "bottom-end" }}
        lazyMount
        unmountOnExit
      >
        <Popover.Trigger asChild>
          <IconButton
            size="xs"
            variant="ghost"
            colorPalette="gray"
            aria-label={`Signed in as ${session.name}`}
            title={`Signed in as ${session.name}`}
          >
            <UserRound size={16} />
          </IconButton>
        </Popover.Trigger>
        <Portal>
          <Popover.Positioner>
            <Popover.Content width="260px" p={4}>
              <Text fontWeight={650} overflowWrap="anywhere">
                {session.name}
              </Text>
              <Text color="fg.muted" mb={3}>
                You may {SAY_MAY[session.role]}.
              </Text>
              <Flex direction="column" gap={2} align="stretch">
                {may.administer && (
                  <Button asChild size="xs" variant="outline">
                    <Link to="/people" onClick={() => setOpen(false)}>
                      People, tokens, log
                    </Link>
                  </Button>
                )}
                <Button
                  size="xs"
                  variant="outline"
                  onClick={() => {
                    setOpen(false);
                    setChanging(true);
                  }}
                >
                  Change the password
                </Button>
                <Button size="xs" variant="outline" loading={leave.isPending} onClick={() => leave.mutate()}>
                  Sign out
                </Button>
              </Flex>
              {leave.error && <ErrorBox error={leave.error} />}
            </Popover.Content>
          </Popover.Positioner>
        </Portal>
      </Popover.Root>
      {changing && <NewPassword close={() => setChanging(false)} />}
    </>
  );
}

function NewPassword({ close }: { close: () => void }) {
  const [old, setOld] = useState("");
  const [next, setNext] = useState("");
  const change = useMutation({
    mutationFn: () => take(api.POST("/api/session/password", { body: { old, new: next } })),
    onSuccess: close,
  });
  return (
    <PageDialog
      title="Change the password"
      size="sm"
      close={close}
      footer={
        <Button
          colorPalette="amber"
          size="sm"
          loading={change.isPending}
          disabled={!old || next.length < 10}
          onClick={() => change.mutate()}
        >
          Change it
        </Button>
      }
    >
      <Flex direction="column" gap={3}>
        <Field.Root>
          <Field.Label>The password now</Field.Label>
          <Input size="sm" type="password" autoComplete="current-password" value={old} onChange={(event) => setOld(event.target.value)} />
        </Field.Root>
        <Field.Root>
          <Field.Label>The new one</Field.Label>
          <Input size="sm" type="password" autoComplete="new-password" value={next} onChange={(event) => setNext(event.target.value)} />
          <Field.HelperText>Ten characters or more. Sessions in other browsers end.</Field.HelperText>
        </Field.Root>
        {change.error && <ErrorBox error={change.error} />}
      </Flex>
    </PageDialog>
  );
}
