import { Flex, IconButton, Kbd, Text } from "@chakra-ui/react";
import { CircleHelp } from "lucide-react";
import { useEffect, useState } from "react";
import { Framed } from "./Framed";
import { isTyping } from "./keys";

const SHORTCUTS: [string, string][] = [
  ["Tab, then ← →", "walk along the rail from stop to stop"],
  ["Shift + ← →", "move the chosen stop along the rail"],
  ["Space on a stop", "pick it up, ← → to carry it, Space to set it down"],
  ["X", "switch the chosen step off or on"],
  ["D", "duplicate the chosen step"],
  ["S", "only the chosen step, for looking; again for all"],
  ["Delete", "take the chosen step out"],
  ["Enter on a tile", "all that happened to it; ← → ↑ ↓ walk along the sheet"],
  ["F", "forecast"],
  ["A", "add a step"],
  ["R", "reshuffle: a new seed"],
  ["Ctrl + Z, Ctrl + Shift + Z", "undo, redo"],
  ["E", "make an edition"],
  ["?", "this list"],
];

/** What the keyboard can do; opens with “?”. */
export function ShortcutSheet() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (event.key === "?" && !isTyping(event)) setOpen(true);
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  return (
    <>
      <IconButton
        colorPalette="gray"
        aria-label="Keyboard shortcuts"
        title="Keyboard shortcuts (?)"
        variant="ghost"
        size="xs"
        onClick={() => setOpen(true)}
      >
        <CircleHelp size={16} />
      </IconButton>
      {open && (
        <Framed title="Keyboard" size="sm" close={() => setOpen(false)}>
          <Flex direction="column" gap={2}>
            {SHORTCUTS.map(([keys, what]) => (
              <Flex key={keys} gap={4} align="baseline">
                <Kbd width="190px" flex="none">
                  {keys}
                </Kbd>
                <Text>{what}</Text>
              </Flex>
            ))}
          </Flex>
        </Framed>
      )}
    </>
  );
}
