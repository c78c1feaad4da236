import type { PipelineDocument } from "../api/client";

/** The name a pipeline's file gets. */
export function fileName(document: PipelineDocument): string {
  return `${document.name.toLowerCase().replaceAll(/[^\p{L}\p{N}]+/gu, "-") || "pipeline"}.varlen.json`;
}

/** Save a pipeline as a file. */
export function saveFile(document: PipelineDocument): void {
  saveJson(document, fileName(document));
}

/** Save anything as a JSON file of a name. */
export function saveJson(value: unknown, name: string): void {
  const link = window.document.createElement("a");
  link.href = URL.createObjectURL(new Blob([`${JSON.stringify(value, null, 2)}\n`], { type: "application/json" }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
