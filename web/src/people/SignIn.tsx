import { Button, Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../api/client";
import { ErrorBox } from "../shell/PageState";
import { SAY_MAY } from "../state/session";
import { Door, NameField, PasswordField } from "./Door";

/** Sign in; then the page that was asked for comes. */
export function SignIn() {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const enter = useMutation({
    mutationFn: () => take(api.POST("/api/session", { body: { name, password } })),
    onSuccess: () => location.reload(),
  });
  return (
    <Door title="Sign in" says="No account yet? An admin of this Varlen can invite you." submit={() => enter.mutate()}>
      <NameField value={name} change={setName} />
      <PasswordField value={password} change={setPassword} />
      {enter.error && <ErrorBox error={enter.error} />}
      <Button type="submit" size="sm" colorPalette="amber" loading={enter.isPending} disabled={!name.trim() || !password}>
        Sign in
      </Button>
    </Door>
  );
}

/** Make an account by an invitation. Its secret stands behind the #, which browsers do not send. */
export function Join() {
  const [secret] = useState(() => location.hash.slice(1));
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const invited = useQuery({
    queryKey: ["invited"],
    queryFn: () => take(api.POST("/api/invitations/open", { body: { secret } })),
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const join = useMutation({
    mutationFn: () => take(api.POST("/api/invitations/accept", { body: { secret, name, password } })),
    onSuccess: () => location.replace("/"),
  });
  if (invited.error) {
    return (
      <Door title="This link can't be used" says="Nothing was changed." submit={() => undefined}>
        <ErrorBox error={invited.error} />
        <a href="/">
          <Text textDecoration="underline">To signing in</Text>
        </a>
      </Door>
    );
  }
  if (!invited.data) return null;
  const { role, made_by } = invited.data;
  const says = (
    <>
      {made_by ? `${made_by} invites you` : "This is the first account"}. You may {SAY_MAY[role]}.
    </>
  );
  return (
    <Door title="Your account" says={says} submit={() => join.mutate()}>
      <NameField value={name} change={setName} help="Others see it beside what you make. Letters, digits and @ . + - _" />
      <PasswordField value={password} change={setPassword} help="Ten characters or more; a few words are good." isNew />
      {join.error && <ErrorBox error={join.error} />}
      <Button type="submit" size="sm" colorPalette="amber" loading={join.isPending} disabled={!name.trim() || password.length < 10}>
        Make the account
      </Button>
    </Door>
  );
}
