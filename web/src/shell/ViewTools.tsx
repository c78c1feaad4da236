import { Portal } from "@chakra-ui/react";
import { type ReactNode, useEffect, useRef, useState } from "react";

/** Puts a view's title and tools into the header. */
export function ViewTools({ children }: { children: ReactNode }) {
  const place = useRef<HTMLElement | null>(null);
  const [ready, setReady] = useState(false);
  useEffect(() => {
    place.current = document.getElementById("view-tools");
    setReady(true);
  }, []);
  return ready ? <Portal container={place as React.RefObject<HTMLElement>}>{children}</Portal> : null;
}
