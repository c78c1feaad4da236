import { type RefCallback, type RefObject, useCallback, useEffect, useRef, useState } from "react";

/** Whether a key press belongs to a field or a dialog and must not be taken for a shortcut. Of a slider that are arrows and their like, no letters. */
export function isTyping(event: KeyboardEvent): boolean {
  const target = event.target as HTMLElement | null;
  if (!target) return false;
  return (
    target.matches("input:not([type=checkbox]):not([type=radio]), textarea, select, [role=spinbutton]") ||
    (event.key.length > 1 && target.matches("[role=slider]")) ||
    target.closest("[role=dialog]") !== null
  );
}

/** A frame and how large it is now, in screen pixels. */
export function useRoom(): [RefObject<HTMLDivElement | null>, { width: number; height: number }] {
  const frame = useRef<HTMLDivElement>(null);
  const [room, setRoom] = useState({ width: 600, height: 500 });
  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => entry && setRoom({ width: entry.contentRect.width, height: entry.contentRect.height }));
    if (frame.current) watch.observe(frame.current);
    return () => watch.disconnect();
  }, []);
  return [frame, room];
}

/** Whether a place on the page was ever in sight, or nearly: what it shows is asked for only then. */
export function useSeen(): { place: RefCallback<Element>; met: boolean } {
  const [met, setMet] = useState(false);
  const place = useCallback((element: Element | null) => {
    if (!element) return;
    const observer = new IntersectionObserver(
      (entries) => {
        if (!entries.some((entry) => entry.isIntersecting)) return;
        setMet(true);
        observer.disconnect();
      },
      { rootMargin: "200px" },
    );
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  return { place, met };
}

/** As the system has it, until a person chooses; the choice is kept for the next visit. */
const KEY = "varlen-light";

export function restoreTheme(): void {
  const system = matchMedia("(prefers-color-scheme: light)");
  const follow = () => apply((localStorage.getItem(KEY) ?? (system.matches ? "1" : "0")) === "1");
  system.addEventListener("change", follow);
  follow();
}

export function toggleTheme(): void {
  const light = !document.documentElement.classList.contains("light");
  localStorage.setItem(KEY, light ? "1" : "0");
  apply(light);
}

function apply(light: boolean): void {
  document.documentElement.classList.toggle("light", light);
  document.documentElement.classList.toggle("dark", !light);
}
