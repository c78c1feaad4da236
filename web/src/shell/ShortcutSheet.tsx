import { CloseButton, Dialog, Flex, IconButton, Kbd, Portal, Text } from "@chakra-ui/react";
import { CircleHelp } from "lucide-react";
import { useEffect, useState } from "react";
import { isTyping } from "./keys";

const SHORTCUTS: [string, string][] = [
  ["Tab, then ← →", "walk along the rail from stop to stop"],
  ["Shift + ← →", "move the chosen stop along the rail"],
  ["Space on a stop", "pick it up, ← → to carry it, Space to set it down"],
  ["X", "switch the chosen step off or on"],
  ["Delete", "take the chosen step out"],
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
    <Dialog.Root open={open} onOpenChange={(change) => setOpen(change.open)} size="sm">
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
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content>
            <Dialog.Header>
              <Dialog.Title>Keyboard</Dialog.Title>
            </Dialog.Header>
            <Dialog.Body display="flex" flexDirection="column" gap={2} pb={6}>
              {SHORTCUTS.map(([keys, what]) => (
                <Flex key={keys} gap={4} align="baseline">
                  <Kbd width="190px" flex="none">
                    {keys}
                  </Kbd>
                  <Text>{what}</Text>
                </Flex>
              ))}
            </Dialog.Body>
            <Dialog.CloseTrigger asChild>
              <CloseButton colorPalette="gray" size="sm" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}
