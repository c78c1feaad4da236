import { Flex, Kbd, Text } from "@chakra-ui/react";
import { PageDialog } from "./Dialog";

const SHORTCUTS: [string, string][] = [
  ["Tab, then ← →", "walk along the rail from stop to stop"],
  ["Shift + ← →", "move the selected stop along the rail"],
  ["Space on a stop", "pick it up, ← → to move it, Space to drop it"],
  ["X", "switch the selected step off or on"],
  ["D", "duplicate the selected step"],
  ["S", "show only the selected step; again for all"],
  ["Delete", "remove the selected step"],
  ["Enter on a tile", "open its trace; ← → ↑ ↓ move along the sheet"],
  ["F", "forecast"],
  ["M, P", "match the field; probe whether it helps"],
  ["A", "add a step"],
  ["R", "reshuffle: a new seed"],
  ["Ctrl + Z, Ctrl + Shift + Z", "undo, redo"],
  ["Ctrl + S", "make a revision now; otherwise one is made when the hand rests"],
  ["E", "make an edition"],
  ["B", "the large image of a dataset alone on the bench; ← → go to the next"],
  ["?", "this list"],
];

/** What the keyboard can do. */
export function ShortcutList({ close }: { close: () => void }) {
  return (
    <PageDialog title="Keyboard" size="sm" close={close}>
      <Flex direction="column" gap={2}>
        {SHORTCUTS.map(([keys, what]) => (
          <Flex key={keys} gap={4} align="baseline">
            <Kbd width="190px" flex="none" wordSpacing="normal">
              {keys}
            </Kbd>
            <Text>{what}</Text>
          </Flex>
        ))}
      </Flex>
    </PageDialog>
  );
}
