import { useDraft } from "../state/draft";

const MOST_SEED = 2 ** 31;

/** Other random numbers for everything. */
export function reshuffle(): void {
  useDraft.getState().change((document) => ({ ...document, seed: Math.floor(Math.random() * MOST_SEED) % 100_000 }));
}
