import type { PipelineDocument, Tile } from "../api/client";
import type { TileFeed } from "../picture/tile-feed";
import type { Against } from "../state/view";

/** A pipeline in which one step alone happens, the others off; the pipeline itself stays as it is. */
export function soloOf(document: PipelineDocument, solo: string | null): PipelineDocument {
  if (solo === null || !document.steps.some((step) => step.id === solo)) return document;
  return { ...document, steps: document.steps.map((step) => ({ ...step, enabled: step.id === solo })) };
}

/** The tiles of what the sheet is held against. */
export interface AgainstTiles {
  name: string;
  document: PipelineDocument;
  feed: TileFeed;
  tiles: Map<number, Tile[]>;
}

export function againstTiles(against: Against | null, feed: TileFeed, tiles: Map<number, Tile[]>): AgainstTiles | null {
  return against && { name: against.name, document: against.document, feed, tiles };
}
