import { Box, Button, Text } from "@chakra-ui/react";
import { type ComponentType, lazy, type ReactNode, Suspense, useEffect, useState } from "react";
import { createPortal } from "react-dom";
import { useRouteError } from "react-router";
import { may } from "../state/session";
import { ErrorBox } from "./PageState";

/** Puts a view's title and tools into the header. */
export function ViewTools({ children }: { children: ReactNode }) {
  const [place, setPlace] = useState<HTMLElement | null>(null);
  useEffect(() => setPlace(document.getElementById("view-tools")), []);
  return place && createPortal(children, place);
}

/** What is offered only to those who may do it. */
export function May({ to, children }: { to: keyof typeof may; children: ReactNode }) {
  return may[to] ? children : null;
}

/** What stands in place of a view that could not be drawn; the others go on working. */
export function ViewFailed() {
  return <Failed error={useRouteError()} says="This view could not be drawn." />;
}

export function Failed({ error, says }: { error: unknown; says: string }) {
  return (
    <Box maxWidth="640px" p={6}>
      <ErrorBox error={error}>
        <Text color="fg.muted">{says} Nothing was lost; reloading the page may help.</Text>
        <Button size="xs" variant="outline" mt={2} onClick={() => location.reload()}>
          Reload
        </Button>
      </ErrorBox>
    </Box>
  );
}

/** A view that is loaded when it is gone to; where its script can't be had, as after an upgrade of the server, that is said. */
export function lazyView(load: () => Promise<ComponentType>): () => Promise<{ Component: ComponentType }> {
  return async () => {
    try {
      return { Component: await load() };
    } catch (error) {
      return { Component: () => <Failed error={error} says="This view could not be loaded." /> };
    }
  };
}

/** A part of a view, such as a dialog, that is loaded when it is first shown; nothing stands in its place until then. */
export function lazyPart<P extends object>(load: () => Promise<ComponentType<P>>): ComponentType<P> {
  const Part = lazy(async () => ({ default: await load() }));
  return (props: P) => (
    <Suspense>
      <Part {...props} />
    </Suspense>
  );
}
