import { Input, Text } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { may } from "../state/session";
import { TextInPlace } from "./fields";
import { ErrorBox } from "./PageState";

interface Props {
  /** What it is a note on. */
  of: string;
  note: string;
  save: (note: string) => Promise<unknown>;
}

/** A line of the user's that tells one thing from others; a click makes it a field. */
export function Note({ of, note, save }: Props) {
  const [open, setOpen] = useState(false);
  const write = useMutation({ mutationFn: save, onSuccess: () => setOpen(false) });
  const settle = (text: string | null) => (text !== null && text !== note ? write.mutate(text) : setOpen(false));
  if (!open) {
    if (!note && !may.edit) return null;
    return (
      <Text
        as={may.edit ? "button" : "p"}
        textAlign="left"
        fontSize="small"
        color={note ? "fg" : "fg.muted"}
        cursor={may.edit ? "text" : undefined}
        overflowWrap="anywhere"
        title={`Note on ${of}`}
        onClick={() => may.edit && setOpen(true)}
      >
        {note || "add a note"}
      </Text>
    );
  }
  return (
    <>
      <TextInPlace label={`Note on ${of}`} begin={note} placeholder="what tells it from others" maxLength={1000} settle={settle} />
      {write.error && <ErrorBox error={write.error} />}
    </>
  );
}

interface FinderProps {
  words: string;
  setWords: (words: string) => void;
  what: string;
}

/** A field by which a list is narrowed. */
export function Finder({ words, setWords, what }: FinderProps) {
  return (
    <Input
      size="xs"
      width="220px"
      type="search"
      aria-label={`Find ${what}`}
      placeholder="name or note contains"
      value={words}
      onChange={(event) => setWords(event.target.value)}
    />
  );
}

/** Whether every word is in one of the texts. */
export const holds = (words: string, ...texts: string[]) =>
  words
    .toLowerCase()
    .split(/\s+/)
    .every((word) => texts.join(" ").toLowerCase().includes(word));
