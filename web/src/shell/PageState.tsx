import { Box, Button, Flex, Spinner, Link as StyledLink, Text } from "@chakra-ui/react";
import { TriangleAlert } from "lucide-react";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { isMissing, Refusal } from "../api/client";

/** An error as something to act on: what happened, all problems, what stays as it was. */
export function ErrorBox({ error, children }: { error: unknown; children?: React.ReactNode }) {
  const lines =
    error instanceof Refusal && error.problems.length ? error.problems : [error instanceof Error ? error.message : String(error)];
  return (
    <Flex
      role="alert"
      align="flex-start"
      gap={2}
      px={3}
      py={2}
      borderWidth="1px"
      borderColor="loss"
      borderRadius="4px"
      overflowWrap="anywhere"
    >
      <Box flex="none" mt="2px" color="loss">
        <TriangleAlert size={16} />
      </Box>
      <Box minWidth={0}>
        {lines.map((line) => (
          <p key={line}>{line}</p>
        ))}
        {children}
      </Box>
    </Flex>
  );
}

/** What a page asked for, as far as it matters here. */
interface Asked {
  error: unknown;
  data: unknown;
  refetch: () => unknown;
}

/** A way to another page, within a sentence. */
export function PageLink({ to, children }: { to: string; children: ReactNode }) {
  return (
    <StyledLink asChild variant="underline">
      <Link to={to}>{children}</Link>
    </StyledLink>
  );
}

/** Said once it takes long enough to be noticed. */
export function Loading({ what }: { what: string }) {
  return (
    <Flex
      align="center"
      gap={3}
      py={4}
      color="fg.muted"
      animationName="fade-in"
      animationDuration="1ms"
      animationDelay="400ms"
      animationFillMode="both"
    >
      <Spinner size="sm" /> Loading {what}…
    </Flex>
  );
}

/** A page that has nothing to show yet: why, and what to do about it. */
export function Nothing({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Box py={6} maxWidth="620px" css={{ "& p + p, & ol": { mt: 3 } }}>
      <Text as="h2" fontSize="heading" fontWeight={650} mb={2}>
        {title}
      </Text>
      {children}
    </Box>
  );
}

/** A list on its way, or that did not arrive; null once it is there. */
export function ListState({ asked, what }: { asked: Asked; what: string }) {
  if (asked.error) return <Failed asked={asked} />;
  return asked.data === undefined ? <Loading what={what} /> : null;
}

function Failed({ asked }: { asked: Asked }) {
  return (
    <ErrorBox error={asked.error}>
      <Button size="xs" variant="outline" mt={2} onClick={() => void asked.refetch()}>
        Try again
      </Button>
    </ErrorBox>
  );
}

interface OneProps {
  asked: Asked;
  /** Such as "dataset 7". */
  what: string;
  back: string;
  /** What lies there. */
  all: string;
}

/** The page of one thing that is on its way, is not here, or did not arrive. */
export function OneState({ asked, what, back, all }: OneProps) {
  return (
    <Box height="100%" overflowY="auto" px={6} py={5}>
      {isMissing(asked.error) ? (
        <Nothing title={`There is no ${what} here`}>
          <Text>It may have been deleted, or the address may be of another server.</Text>
        </Nothing>
      ) : asked.error ? (
        <Box maxWidth="620px">
          <Failed asked={asked} />
        </Box>
      ) : (
        <Loading what={what} />
      )}
      {Boolean(asked.error) && (
        <Text mt={4}>
          <PageLink to={back}>{all}</PageLink>
        </Text>
      )}
    </Box>
  );
}
