import { Box, Button, Flex, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Undo2 } from "lucide-react";
import { useState } from "react";
import { api, type Finding, take } from "../api/client";
import { askFindings, refresh } from "../api/queries";
import { ErrorBox } from "../shell/PageState";
import { may } from "../state/session";
import { counted } from "../words/figures";

/** What the remedies are called on their buttons. */
const REMEDIES: Record<string, string> = {
  "leave-out": "Leave out",
  "clip-box": "Clip to the picture",
  "drop-object": "Drop",
};

/** Pictures with these can't be shown: they were not brought in. */
const NOT_HERE = ["missing-file", "damaged-file", "size-disagrees"];
const NO_PLACE = [
  "missing-file",
  "unknown-class",
  "bad-label",
  "class-unused",
  "class-missing-in-split",
  "boxes-are-fractions",
  "boxes-are-centres",
];

interface Props {
  id: number;
  /** Pictures are still being decoded; more may be found. */
  examining: boolean;
  shown: string | undefined;
  show: (finding: string | undefined) => void;
}

/** What looks wrong in a dataset, why it matters, and what can be done; every change can be taken back. */
export function FindingsPanel({ id, examining, shown, show }: Props) {
  const client = useQueryClient();
  const path = { params: { path: { id } } };
  const found = useQuery(askFindings(id, examining));
  const settled = () => refresh(client, "findings", "overview", "datasets", "rows");
  const mend = useMutation({
    mutationFn: (finding: string) => take(api.POST("/api/datasets/{id}/edits", { ...path, body: { finding } })),
    onSuccess: settled,
  });
  const undo = useMutation({ mutationFn: () => take(api.DELETE("/api/datasets/{id}/edits", path)), onSuccess: settled });
  if (found.error) return <ErrorBox error={found.error} />;
  if (!found.data) return null;
  const { findings, edits } = found.data;
  const changes = edits.reduce((sum, edit) => sum + edit.count, 0);
  return (
    <Box as="section" aria-label="Findings" px={4} py={3}>
      <Flex align="center" justify="space-between" minHeight="28px">
        <Text as="h2" fontWeight={650} fontSize="heading">
          Findings
        </Text>
        {changes > 0 && may.edit && (
          <Button size="xs" variant="outline" onClick={() => undo.mutate()} loading={undo.isPending}>
            <Undo2 size={13} /> Undo the last edit
          </Button>
        )}
      </Flex>
      <Text fontSize="small" color="fg.muted" mt={1} role="status">
        {examining && "Pictures are still being decoded; more may be found. "}
        {findings.length === 0
          ? "Every file could be read, and nothing looks wrong."
          : changes > 0
            ? `${counted(changes, "change")} to labels and splits; the files stay as they are.`
            : "Found when the dataset was imported."}
      </Text>
      {(mend.error ?? undo.error) && <ErrorBox error={mend.error ?? undo.error} />}
      {findings.map((finding) => (
        <Item
          key={finding.kind}
          finding={finding}
          on={shown === finding.kind}
          show={() => show(shown === finding.kind ? undefined : finding.kind)}
          mend={() => mend.mutate(finding.kind)}
          busy={mend.isPending && mend.variables === finding.kind}
        />
      ))}
    </Box>
  );
}

function Item({ finding, on, show, mend, busy }: { finding: Finding; on: boolean; show: () => void; mend: () => void; busy: boolean }) {
  const [all, setAll] = useState(false);
  const remedy = REMEDIES[finding.edit];
  const here = !NOT_HERE.includes(finding.kind);
  return (
    <Box as="article" aria-label={finding.kind.replaceAll("-", " ")} py={3} borderBottomWidth="1px">
      <Flex gap={2} align="baseline">
        <Text fontWeight={600} flex="1">
          {finding.kind.replaceAll("-", " ")}
        </Text>
        <Text fontSize="small" color={finding.severity === "error" ? "loss" : "fg.muted"}>
          {finding.severity}
        </Text>
        <Text fontWeight={600} minWidth="24px" textAlign="right">
          {finding.count}
        </Text>
      </Flex>
      <Text fontSize="body" color="fg.muted">
        {finding.why}
      </Text>
      {all ? (
        <Box as="ul" aria-label="every case" fontSize="small" mt={1} maxHeight="180px" overflowY="auto" tabIndex={0} pl={4}>
          {finding.examples.map((example, place) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: two cases may be told in the same words
            <li key={place} style={{ overflowWrap: "anywhere" }}>
              {example}
            </li>
          ))}
        </Box>
      ) : (
        <Text fontSize="small" mt={1} truncate title={finding.examples[0]}>
          {finding.examples[0]}
        </Text>
      )}
      <Flex gap={2} mt={2} align="center">
        {here && !NO_PLACE.includes(finding.kind) && (
          <Button size="xs" variant="outline" aria-pressed={on} onClick={show}>
            {on ? "Show all" : "Show"}
          </Button>
        )}
        {finding.examples.length > 1 && (
          <Button size="xs" variant="ghost" aria-expanded={all} onClick={() => setAll(!all)}>
            {all ? "Fewer" : `Name all ${finding.examples.length}`}
          </Button>
        )}
        {here && remedy && !finding.mended && may.edit && (
          <Button size="xs" variant="outline" onClick={mend} loading={busy}>
            {remedy}
          </Button>
        )}
        <Text fontSize="small" color="fg.muted">
          {finding.mended ? "mended" : here ? (remedy ? "" : finding.remedy) : "left out when the dataset was imported"}
        </Text>
      </Flex>
    </Box>
  );
}
