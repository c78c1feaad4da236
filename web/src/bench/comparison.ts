import type { PipelineDocument, Tile } from "../api/client";
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
  tiles: Map<number, Tile[]>;
  late: ReadonlySet<number>;
}

export function againstTiles(
  against: Against | null,
  sheet: { tiles: Map<number, Tile[]>; late: ReadonlySet<number> },
): AgainstTiles | null {
  return against && { name: against.name, document: against.document, tiles: sheet.tiles, late: sheet.late };
}
