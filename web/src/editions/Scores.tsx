import { Box, Button, Flex, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { FileUp } from "lucide-react";
import { useRef, useState } from "react";
import { api, type Edition, type Score, take } from "../api/client";
import { askScores, refresh } from "../api/queries";
import { ErrorBox } from "../shell/PageState";
import { may } from "../state/session";

/** Numbers that came of training: those there are, one more by hand, or a file as trainers write them. */
export function Scores({ edition }: { edition: Edition }) {
  const client = useQueryClient();
  const chooser = useRef<HTMLInputElement>(null);
  const path = { params: { path: { id: edition.id } } };
  const found = useQuery(askScores(edition.id));
  const attach = useMutation({
    mutationFn: (body: { scores: Score[]; text: string; source: string }) => take(api.POST("/api/editions/{id}/scores", { ...path, body })),
    onSuccess: () => refresh(client, "scores", "trials"),
  });
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const [split, setSplit] = useState("validation");
  const number = Number(value);
  const good = name.trim() && value.trim() && Number.isFinite(number);
  return (
    <Box>
      {lastOf((found.data ?? []) as Score[]).map(({ score, epochs }) => (
        <Flex key={`${score.name}-${score.split}-${score.run}`} justify="space-between" gap={3} py="1px" title={score.note || undefined}>
          <Text truncate>
            {score.name}
            <Text as="span" color="fg.muted">
              {score.split && ` ${score.split}`}
              {score.run && `, ${score.run}`}
              {epochs > 1 && `, epoch ${score.epoch} of ${epochs}`}
            </Text>
          </Text>
          <Text>{Number(score.value.toPrecision(4))}</Text>
        </Flex>
      ))}
      {found.data?.length === 0 && (
        <Text color="fg.muted">None yet: put in by hand, from a trainer's CSV or JSON lines, or with varlen score.</Text>
      )}
      <Flex
        as="form"
        hidden={!may.edit}
        gap={1}
        mt={2}
        onSubmit={(event) => {
          event.preventDefault();
          if (!good) return;
          attach.mutate({
            scores: [{ name: name.trim(), value: number, epoch: null, split, note: "", at: "", run: "" }],
            text: "",
            source: "by hand",
          });
          setValue("");
        }}
      >
        <Input
          size="xs"
          flex="1"
          minWidth={0}
          aria-label="Score's name"
          placeholder="name"
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <Input
          size="xs"
          width="64px"
          aria-label="Score's value"
          placeholder="value"
          value={value}
          onChange={(event) => setValue(event.target.value)}
        />
        <Input size="xs" width="78px" aria-label="Score's split" value={split} onChange={(event) => setSplit(event.target.value)} />
        <Button type="submit" size="xs" variant="outline" disabled={!good}>
          Add
        </Button>
        <Button
          size="xs"
          px={2}
          variant="outline"
          aria-label="Scores from a file"
          title="From a file: CSV or JSON lines"
          onClick={() => chooser.current?.click()}
        >
          <FileUp size={13} />
        </Button>
      </Flex>
      <input
        ref={chooser}
        type="file"
        accept=".csv,.json,.jsonl,.txt"
        hidden
        aria-label="File of scores"
        onChange={async (event) => {
          const file = event.target.files?.[0];
          event.target.value = "";
          if (file) attach.mutate({ scores: [], text: await file.text(), source: file.name });
        }}
      />
      {attach.error && (
        <Box mt={2}>
          <ErrorBox error={attach.error} />
        </Box>
      )}
    </Box>
  );
}

/** Of each run, name and split the last number, and of how many epochs. */
function lastOf(scores: Score[]): { score: Score; epochs: number }[] {
  const found = new Map<string, { score: Score; epochs: number }>();
  for (const score of scores) {
    const key = `${score.name}\n${score.split}\n${score.run}`;
    found.set(key, { score, epochs: (found.get(key)?.epochs ?? 0) + 1 });
  }
  return [...found.values()];
}
