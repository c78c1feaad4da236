import { Box, Flex, Text } from "@chakra-ui/react";
import type { FormEvent, ReactNode } from "react";

interface Props {
  title: string;
  /** What stands above the fields. */
  says: ReactNode;
  submit: () => void;
  children: ReactNode;
}

/** What stands before the application: a name, a few words, a form. */
export function Door({ title, says, submit, children }: Props) {
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
