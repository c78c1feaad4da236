import { api, Refusal, type Schemas, take } from "../api/client";
import type { Recipe } from "./recipe";

export type DatasetImport = Schemas["Import"];
export type Recognised = NonNullable<Schemas["Import"]["recognised"]>;

/** A file and where it lies in the dataset's folder. */
export interface Gathered {
  file: File;
  path: string;
}

const FILES_AT_ONCE = 40;
const BYTES_AT_ONCE = 32 << 20;

/** Upload files a few at a time and see what they are; `sent` hears the bytes that have gone. */
export async function gather(files: Gathered[], sent: (bytes: number) => void): Promise<DatasetImport> {
  const name = nameOf(files);
  const incoming = await take(api.POST("/api/imports", { body: { name } }));
  let done = 0;
  for (const batch of batches(files)) {
    const body = new FormData();
    for (const { file, path } of batch) {
      body.append("file", file);
      body.append("path", path);
    }
    const answer = await fetch(`/api/imports/${incoming.id}/files`, { method: "POST", body });
    if (!answer.ok) {
      const said = await answer.json();
      throw new Refusal(said.message, said.problems ?? [], answer.status);
    }
    done += batch.reduce((sum, { file }) => sum + file.size, 0);
    sent(done);
  }
  return recogniseAs(incoming.id);
}

/** See what the files are, by themselves or read as `format` or by a recipe, with a rule for levels beyond 8 bits. */
export function recogniseAs(id: number, format = "", levels = "", reading: Recipe | null = null): Promise<DatasetImport> {
  return take(api.POST("/api/imports/{id}/recognise", { params: { path: { id } }, body: { format, levels, reading } }));
}

/** The files of a drop, folders with all that is in them. */
export async function dropped(data: DataTransfer): Promise<Gathered[]> {
  const entries = [...data.items].map((item) => item.webkitGetAsEntry?.() ?? null);
  if (entries.some((entry) => entry?.isDirectory)) return (await Promise.all(entries.map((entry) => entryFiles(entry)))).flat();
  return [...data.files].map((file) => ({ file, path: file.name }));
}

async function entryFiles(entry: FileSystemEntry | null): Promise<Gathered[]> {
  if (!entry) return [];
  if (entry.isFile) {
    const file = await new Promise<File>((give, fail) => (entry as FileSystemFileEntry).file(give, fail));
    return [{ file, path: entry.fullPath.replace(/^\//, "") }];
  }
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const found: Gathered[] = [];
  for (;;) {
    // A reader gives its entries in parts; none at all means the end.
    const part = await new Promise<FileSystemEntry[]>((give, fail) => reader.readEntries(give, fail));
    if (!part.length) return found;
    for (const child of part) found.push(...(await entryFiles(child)));
  }
}

function nameOf(files: Gathered[]): string {
  const first = files[0]?.path ?? "dataset";
  return first.includes("/")
    ? (first.split("/")[0] ?? "dataset")
    : files.length === 1
      ? first.replace(/\.(zip|tar|tgz|tbz2|txz|tar\.(gz|bz2|xz))$/i, "")
      : "dataset";
}

function* batches(files: Gathered[]): Generator<Gathered[]> {
  let batch: Gathered[] = [];
  let bytes = 0;
  for (const each of files) {
    if (batch.length && (batch.length >= FILES_AT_ONCE || bytes + each.file.size > BYTES_AT_ONCE)) {
      yield batch;
      batch = [];
      bytes = 0;
    }
    batch.push(each);
    bytes += each.file.size;
  }
  if (batch.length) yield batch;
}
