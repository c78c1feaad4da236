import { Box, Button, Flex, Popover, Portal, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { memo, useCallback, useEffect, useMemo, useState } from "react";
import type { Dataset, PipelineDocument, Schemas } from "../api/client";
import { askAdvice, keepOf } from "../api/queries";
import { useView } from "../state/view";
import { counted } from "../words/figures";

type Note = Schemas["Advice"];

const KEPT = "varlen-dismissed-notes";

function dismissedBefore(): string[] {
  try {
    return JSON.parse(localStorage.getItem(KEPT) ?? "[]");
  } catch {
    return [];
  }
}

/** What is allowed here but seldom meant: one quiet line, opened when wanted, each note dismissed for good. */
export function AdviceList({ dataset, current, ready }: { dataset: Dataset; current: () => PipelineDocument; ready: boolean }) {
  const [dismissed, setDismissed] = useState(dismissedBefore);
  // While the hand moves, what was said of the document before stays.
  const [document, setDocument] = useState(current);
  useEffect(() => {
    if (ready) setDocument(current());
  }, [ready, current]);
  const found = useQuery({
    ...askAdvice(dataset, document),
    enabled: ready,
    placeholderData: keepOf(dataset.id),
  });
  const about = `${dataset.id}/${document.name}`;
  const notes = useMemo(
    () => (found.data ?? []).filter((note) => !dismissed.includes(`${about}/${note.step}/${note.kind}`)),
    [found.data, dismissed, about],
  );
  const dismiss = useCallback(
    (kind: string, step: string) =>
      setDismissed((before) => {
        const next = [...before, `${about}/${step}/${kind}`].slice(-200);
        localStorage.setItem(KEPT, JSON.stringify(next));
        return next;
      }),
    [about],
  );
  return notes.length ? <Notes notes={notes} dismiss={dismiss} /> : null;
}

interface NotesProps {
  notes: Note[];
  dismiss: (kind: string, step: string) => void;
}

const Notes = memo(function Notes({ notes, dismiss }: NotesProps) {
  return (
    <Popover.Root positioning={{ placement: "bottom-start" }} size="sm">
      <Popover.Trigger asChild>
        <Button size="xs" variant="ghost" colorPalette="gray" color="fg.muted" fontWeight={500} px={2} flex="none">
          {counted(notes.length, "note")}
        </Button>
      </Popover.Trigger>
      <Portal>
        <Popover.Positioner>
          <Popover.Content width="420px" aria-label="Notes on this pipeline">
            <Popover.Body p={3}>
              {notes.map((note) => (
                <Flex key={`${note.kind}-${note.step}`} gap={3} py={2} borderBottomWidth="1px" _last={{ borderBottomWidth: 0 }}>
                  <Box flex="1">
                    <Text fontWeight={550}>{note.says}</Text>
                    <Text color="fg.muted" fontSize="small">
                      {note.why}
                    </Text>
                  </Box>
                  <Flex direction="column" gap={1}>
                    {note.step && (
                      <Button size="2xs" variant="outline" onClick={() => useView.setState({ selected: note.step })}>
                        Show
                      </Button>
                    )}
                    <Button size="2xs" variant="ghost" colorPalette="gray" onClick={() => dismiss(note.kind, note.step)}>
                      Dismiss
                    </Button>
                  </Flex>
                </Flex>
              ))}
            </Popover.Body>
          </Popover.Content>
        </Popover.Positioner>
      </Portal>
    </Popover.Root>
  );
});
