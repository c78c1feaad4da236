import { CircleHelp } from "lucide-react";
import { useEffect, useState } from "react";
import { furnished } from "./furnished";
import { isTyping } from "./keys";
import "./plain-button.css";

const ShortcutList = furnished(async () => (await import("./ShortcutList")).ShortcutList);

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
      <button
        type="button"
        className="plain-button"
        data-icon
        aria-label="Keyboard shortcuts"
        title="Keyboard shortcuts (?)"
        onClick={() => setOpen(true)}
      >
        <CircleHelp size={16} />
      </button>
      {open && <ShortcutList close={() => setOpen(false)} />}
    </>
  );
}
