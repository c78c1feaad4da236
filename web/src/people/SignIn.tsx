import { Button, Field, Input } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../api/client";
import { ErrorBox } from "../shell/ErrorBox";
import { Door } from "./Door";

/** Sign in; then the page that was asked for comes. */
export function SignIn() {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const enter = useMutation({
    mutationFn: () => take(api.POST("/api/session", { body: { name, password } })),
    onSuccess: () => location.reload(),
  });
  return (
    <Door title="Sign in" says="No account yet? A keeper of this Varlen can invite you." submit={() => enter.mutate()}>
      <Field.Root>
        <Field.Label>Name</Field.Label>
        <Input size="sm" autoFocus autoComplete="username" value={name} onChange={(event) => setName(event.target.value)} />
      </Field.Root>
      <Field.Root>
        <Field.Label>Password</Field.Label>
        <Input
          size="sm"
          type="password"
          autoComplete="current-password"
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
      </Field.Root>
      {enter.error && <ErrorBox error={enter.error} />}
      <Button type="submit" size="sm" colorPalette="amber" loading={enter.isPending} disabled={!name.trim() || !password}>
        Sign in
      </Button>
    </Door>
  );
}
