import { type ReactNode, useEffect, useState } from "react";
import { createPortal } from "react-dom";

/** Puts a view's title and tools into the header. */
export function ViewTools({ children }: { children: ReactNode }) {
  const [place, setPlace] = useState<HTMLElement | null>(null);
  useEffect(() => setPlace(document.getElementById("view-tools")), []);
  return place && createPortal(children, place);
}
