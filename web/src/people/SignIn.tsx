import { Button } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../api/client";
import { ErrorBox } from "../shell/ErrorBox";
import { Door } from "./Door";
import { NameField, PasswordField } from "./fields";

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
