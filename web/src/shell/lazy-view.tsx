import { type ComponentType, lazy, Suspense } from "react";
import { Failed } from "./ViewFailed";

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
