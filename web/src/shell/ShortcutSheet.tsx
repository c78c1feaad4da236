import { IconButton } from "@chakra-ui/react";
import { CircleHelp } from "lucide-react";
import { useEffect, useState } from "react";
import { isTyping } from "./use-browser";
import { lazyPart } from "./views";

const ShortcutList = lazyPart(async () => (await import("./ShortcutList")).ShortcutList);

/** Opens the list of what the keyboard can do, with “?” too. */
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
        size="xs"
        variant="ghost"
        colorPalette="gray"
        aria-label="Keyboard shortcuts"
        title="Keyboard shortcuts (?)"
        onClick={() => setOpen(true)}
      >
        <CircleHelp size={16} />
      </IconButton>
      {open && <ShortcutList close={() => setOpen(false)} />}
    </>
  );
}
