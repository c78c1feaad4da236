import { Field, Input } from "@chakra-ui/react";

interface Props {
  value: string;
  change: (value: string) => void;
  /** What it may be. */
  help?: string;
}

/** Who one is, for the browser's own memory too. */
export function NameField({ value, change, help }: Props) {
  return (
    <Field.Root>
      <Field.Label>Name</Field.Label>
      <Input size="sm" autoFocus autoComplete="username" value={value} onChange={(event) => change(event.target.value)} />
      {help && <Field.HelperText>{help}</Field.HelperText>}
    </Field.Root>
  );
}

/** isNew: it is chosen here; otherwise the browser may know it. */
export function PasswordField({ value, change, help, isNew }: Props & { isNew?: boolean }) {
  return (
    <Field.Root>
      <Field.Label>Password</Field.Label>
      <Input
        size="sm"
        type="password"
        autoComplete={isNew ? "new-password" : "current-password"}
        value={value}
        onChange={(event) => change(event.target.value)}
      />
      {help && <Field.HelperText>{help}</Field.HelperText>}
    </Field.Root>
  );
}
