import { type RefCallback, useCallback, useState } from "react";

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
