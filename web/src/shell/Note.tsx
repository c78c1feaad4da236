import { Input, Text } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { may } from "../state/session";
import { ErrorBox } from "./PageState";

interface Props {
  /** What it is a note on. */
  of: string;
  note: string;
  save: (note: string) => Promise<unknown>;
}

/** A line in somebody's own words that tells one thing from others; a click makes it a field. */
export function Note({ of, note, save }: Props) {
  const [text, setText] = useState<string | null>(null);
  const write = useMutation({ mutationFn: save, onSuccess: () => setText(null) });
  const settle = () => (text !== null && text.trim() !== note ? write.mutate(text.trim()) : setText(null));
  if (text === null) {
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
        onClick={() => may.edit && setText(note)}
      >
        {note || "add a note"}
      </Text>
    );
  }
  return (
    <>
      <Input
        size="xs"
        autoFocus
        aria-label={`Note on ${of}`}
        placeholder="what tells it from others"
        maxLength={1000}
        value={text}
        onChange={(event) => setText(event.target.value)}
        onBlur={settle}
        onKeyDown={(event) => {
          if (event.key === "Enter") settle();
          if (event.key === "Escape") setText(null);
        }}
      />
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
