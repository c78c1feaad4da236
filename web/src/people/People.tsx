import { Box, Button, Flex, Input, Table, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { api, type Schemas, take } from "../api/client";
import { askInvitations, askPeople, askTokens, refresh } from "../api/queries";
import { NumberField, SelectOne } from "../shell/fields";
import { ErrorBox } from "../shell/PageState";
import { ViewTools } from "../shell/views";
import { ROLES, session } from "../state/session";
import { counted } from "../words/figures";
import { ShownOnce } from "./Door";
import { Log } from "./Log";

type Role = Schemas["Person"]["role"] & string;
type Scope = "read" | "scores" | "write";

const SCOPES: Record<Scope, string> = {
  scores: "scores: post scores of editions",
  read: "read: look at everything",
  write: "write: pipelines, datasets, editions",
};

const when = (at: string | null | undefined) =>
  at ? new Date(at).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" }) : "never";

/** Who may come in, how programs do, and who did what. */
export function People() {
  const people = useQuery(askPeople);
  if (!session.sign_in) {
    return (
      <Text px={6} py={5} maxWidth="640px">
        Nobody signs in here: whoever uses this machine can reach this Varlen. <code>make serve ADDRESS=HOST:PORT</code> starts one for a
        team.
      </Text>
    );
  }
  return (
    <Box height="100%" overflowY="auto" px={6} py={5}>
      <ViewTools>
        <Text color="fg.muted">{people.data ? counted(people.data.length, "person", "people") : ""}</Text>
      </ViewTools>
      {people.error && <ErrorBox error={people.error} />}
      <Flex gap={10} wrap="wrap" align="flex-start">
        <Box flex="1 1 480px" minWidth={0}>
          <Persons people={people.data ?? []} />
          <Invite />
        </Box>
        <Box flex="1 1 480px" minWidth={0}>
          <Tokens />
        </Box>
      </Flex>
      <Log />
    </Box>
  );
}

function Persons({ people }: { people: Schemas["Person"][] }) {
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: ({ id, ...body }: { id: number; role?: Role; active?: boolean }) =>
      take(api.PATCH("/api/people/{id}", { params: { path: { id } }, body: { active: null, ...body } })),
    onSettled: () => refresh(client, "people", "log"),
  });
  return (
    <Section title="People">
      {change.error && <ErrorBox error={change.error} />}
      <Table.Root size="sm" aria-label="People" css={{ "& td, & th": { fontSize: "body" } }}>
        <Table.Header>
          <Table.Row bg="transparent">
            <Table.ColumnHeader pl={0}>name</Table.ColumnHeader>
            <Table.ColumnHeader>may</Table.ColumnHeader>
            <Table.ColumnHeader>last signed in</Table.ColumnHeader>
            <Table.ColumnHeader />
          </Table.Row>
        </Table.Header>
        <Table.Body>
          {people.map((person) => (
            <Table.Row key={person.id} bg="transparent" color={person.active ? undefined : "fg.muted"}>
              <Table.Cell pl={0} fontWeight={600} overflowWrap="anywhere">
                {person.name}
                {!person.active && " (shut out)"}
              </Table.Cell>
              <Table.Cell>
                <SelectOne
                  name={`What ${person.name} may`}
                  value={person.role as Role}
                  options={ROLES}
                  width="240px"
                  change={(role) => change.mutate({ id: person.id, role })}
                />
              </Table.Cell>
              <Table.Cell color="fg.muted" whiteSpace="nowrap">
                {when(person.last_signed_in)}
              </Table.Cell>
              <Table.Cell pr={0} textAlign="end">
                <Button
                  size="xs"
                  variant="ghost"
                  colorPalette="gray"
                  onClick={() => change.mutate({ id: person.id, active: !person.active })}
                >
                  {person.active ? "Shut out" : "Let back in"}
                </Button>
              </Table.Cell>
            </Table.Row>
          ))}
        </Table.Body>
      </Table.Root>
    </Section>
  );
}

function Invite() {
  const client = useQueryClient();
  const [role, setRole] = useState<Role>("editor");
  const open = useQuery(askInvitations);
  const make = useMutation({
    mutationFn: () => take(api.POST("/api/invitations", { body: { role } })),
    onSuccess: () => refresh(client, "invitations", "log"),
  });
  const drop = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/api/invitations/{id}", { params: { path: { id } } })),
    onSuccess: () => refresh(client, "invitations"),
  });
  const waiting = open.data?.filter((each) => each.open) ?? [];
  const error = open.error ?? make.error ?? drop.error;
  return (
    <Section title="Invite somebody">
      <Flex gap={3} align="center">
        <SelectOne name="What they may" value={role} options={ROLES} width="260px" change={setRole} />
        <Button size="xs" colorPalette="amber" loading={make.isPending} onClick={() => make.mutate()}>
          Make a link
        </Button>
      </Flex>
      {error && <ErrorBox error={error} />}
      {make.data && (
        <ShownOnce
          name="Invitation link"
          text={`${location.origin}/join#${make.data.secret}`}
          says="Shown this once. It makes one account, within seven days; send it where only that person reads."
        />
      )}
      {waiting.map((each) => (
        <Flex key={each.id} gap={3} mt={2} align="center" color="fg.muted" fontSize="small">
          <Text>
            {each.role}, made by {each.made_by || "the start command"}, open until {when(each.expires)}
          </Text>
          <Button size="2xs" variant="ghost" colorPalette="gray" onClick={() => drop.mutate(each.id)}>
            Take back
          </Button>
        </Flex>
      ))}
    </Section>
  );
}

function Tokens() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [scope, setScope] = useState<Scope>("scores");
  const [days, setDays] = useState(90);
  const tokens = useQuery(askTokens);
  const make = useMutation({
    mutationFn: () => take(api.POST("/api/tokens", { body: { name, scope, days } })),
    onSuccess: () => {
      setName("");
      return refresh(client, "tokens", "log");
    },
  });
  const revoke = useMutation({
    mutationFn: (id: number) => take(api.DELETE("/api/tokens/{id}", { params: { path: { id } } })),
    onSuccess: () => refresh(client, "tokens", "log"),
  });
  const error = tokens.error ?? make.error ?? revoke.error;
  return (
    <Section title="Tokens for programs">
      <Flex
        as="form"
        gap={2}
        align="center"
        wrap="wrap"
        onSubmit={(event) => {
          event.preventDefault();
          if (name.trim()) make.mutate();
        }}
      >
        <Input
          size="xs"
          width="130px"
          aria-label="Token's name"
          placeholder="what for"
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <SelectOne name="What it may" value={scope} options={SCOPES} width="230px" change={setScope} />
        <NumberField
          label="Days it is valid"
          value={days}
          low={1}
          high={3650}
          whole
          width="52px"
          change={(value) => setDays(value ?? 90)}
        />
        <Text color="fg.muted">days</Text>
        <Button type="submit" size="xs" colorPalette="amber" disabled={!name.trim()} loading={make.isPending}>
          Make a token
        </Button>
      </Flex>
      {error && <ErrorBox error={error} />}
      {make.data && (
        <ShownOnce
          name="New token"
          text={make.data.secret}
          says="Shown this once. Programs send it as Authorization: Bearer …; varlen takes it from VARLEN_TOKEN."
        />
      )}
      {(tokens.data?.length ?? 0) > 0 && (
        <Table.Root size="sm" aria-label="Tokens" mt={3} css={{ "& td, & th": { fontSize: "body" } }}>
          <Table.Header>
            <Table.Row bg="transparent">
              <Table.ColumnHeader pl={0}>name</Table.ColumnHeader>
              <Table.ColumnHeader>for</Table.ColumnHeader>
              <Table.ColumnHeader>last used</Table.ColumnHeader>
              <Table.ColumnHeader>valid until</Table.ColumnHeader>
              <Table.ColumnHeader />
            </Table.Row>
          </Table.Header>
          <Table.Body>
            {tokens.data?.map((token) => (
              <Table.Row key={token.id} bg="transparent" color={token.revoked ? "fg.muted" : undefined}>
                <Table.Cell pl={0} overflowWrap="anywhere">
                  {token.name}
                </Table.Cell>
                <Table.Cell>{token.scope}</Table.Cell>
                <Table.Cell color="fg.muted">{when(token.last_used)}</Table.Cell>
                <Table.Cell color="fg.muted">{token.revoked ? `revoked ${when(token.revoked)}` : when(token.expires)}</Table.Cell>
                <Table.Cell pr={0} textAlign="end">
                  {!token.revoked && (
                    <Button
                      size="xs"
                      variant="ghost"
                      colorPalette="gray"
                      aria-label={`Revoke ${token.name}`}
                      onClick={() => revoke.mutate(token.id)}
                    >
                      Revoke
                    </Button>
                  )}
                </Table.Cell>
              </Table.Row>
            ))}
          </Table.Body>
        </Table.Root>
      )}
    </Section>
  );
}

function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Box as="section" aria-label={title} mb={8}>
      <Text as="h2" fontWeight={650} fontSize="heading" mb={2}>
        {title}
      </Text>
      {children}
    </Box>
  );
}
