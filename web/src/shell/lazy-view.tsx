import type { ComponentType } from "react";
import { Failed } from "./ViewFailed";

type Loaded = { Component: ComponentType };

/** A view that is loaded when it is gone to; where its script can't be had, as after an upgrade of the server, that is said. */
export function lazyView(load: () => Promise<Loaded>): () => Promise<Loaded> {
  return () => load().catch((error: unknown) => ({ Component: () => <Failed error={error} says="This view could not be loaded." /> }));
}
