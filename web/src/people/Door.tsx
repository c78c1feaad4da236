import { Box, Button, Field, Flex, Input, Text } from "@chakra-ui/react";
import { Copy } from "lucide-react";
import { type FormEvent, type ReactNode, useState } from "react";

interface DoorProps {
  title: string;
  /** What stands above the fields. */
  says: ReactNode;
  submit: () => void;
  children: ReactNode;
}

/** What stands before the application: a name, a few words, a form. */
export function Door({ title, says, submit, children }: DoorProps) {
  const send = (event: FormEvent) => {
    event.preventDefault();
    submit();
  };
  return (
    <Flex minHeight="100vh" align="flex-start" justify="center" px={4} pt="16vh" bg="bg.sunken">
      <Box width="360px">
        <Text fontWeight={700} fontSize="heading" letterSpacing="0.01em" mb={5}>
          Varlen
        </Text>
        <Box as="main" bg="bg.raised" borderWidth="1px" borderTopWidth="3px" borderTopColor="amber.solid" px={6} py={5}>
          <Text as="h1" fontWeight={650} fontSize="heading" mb={1}>
            {title}
          </Text>
          <Box color="fg.muted" mb={4}>
            {says}
          </Box>
          <form onSubmit={send}>
            <Flex direction="column" gap={4}>
              {children}
            </Flex>
          </form>
        </Box>
      </Box>
    </Flex>
  );
}

interface FieldsProps {
  value: string;
  change: (value: string) => void;
  /** What it may be. */
  help?: string;
}

/** Who one is, for the browser's own memory too. */
export function NameField({ value, change, help }: FieldsProps) {
  return (
    <Field.Root>
      <Field.Label>Name</Field.Label>
      <Input size="sm" autoFocus autoComplete="username" value={value} onChange={(event) => change(event.target.value)} />
      {help && <Field.HelperText>{help}</Field.HelperText>}
    </Field.Root>
  );
}

/** isNew: it is chosen here; otherwise the browser may know it. */
export function PasswordField({ value, change, help, isNew }: FieldsProps & { isNew?: boolean }) {
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

/** A secret that is told this once, with a way to take it along. */
export function ShownOnce({ name, text, says }: { name: string; text: string; says: string }) {
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    await navigator.clipboard.writeText(text);
    setCopied(true);
  };
  return (
    <Box role="status" borderLeftWidth="3px" borderColor="amber.solid" bg="bg.sunken" px={4} py={3} mt={3}>
      <Flex align="center" gap={3}>
        <Text as="code" aria-label={name} fontFamily="mono" fontSize="small" overflowWrap="anywhere" userSelect="all" flex="1">
          {text}
        </Text>
        {navigator.clipboard && (
          <Button size="xs" variant="outline" onClick={() => void copy()}>
            <Copy size={13} /> {copied ? "Copied" : "Copy"}
          </Button>
        )}
      </Flex>
      <Text color="fg.muted" fontSize="small" mt={1}>
        {says}
      </Text>
    </Box>
  );
}
