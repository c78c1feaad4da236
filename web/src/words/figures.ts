import type { Schemas } from "../api/client";
import { sayName } from "./steps";

type Difference = Schemas["Difference"];

/** A difference in a few words: “rotate changed”. */
export function sayChange(change: Difference): string {
  return change.kind === "pipeline" || change.kind === "moved"
    ? (change.lines[0] ?? change.kind)
    : `${sayName(change.name)} ${change.kind}`;
}

/** “1 image”, “2 images”: a count with its noun; `more` where the plural is not formed with an s. */
export function counted(count: number, noun: string, more = `${noun}s`): string {
  return `${count} ${count === 1 ? noun : more}`;
}

interface Named {
  id: number;
  name: string;
  created: string;
  made_by?: string;
}

/** A name for each thing of a list, by its id: its own; where several have the same, with who made it and when, or its number. */
export function toldApart(things: readonly Named[]): Map<number, string> {
  const same = (label: (thing: Named) => string) => {
    const counts = new Map<string, number>();
    for (const thing of things) counts.set(label(thing), (counts.get(label(thing)) ?? 0) + 1);
    return (thing: Named) => (counts.get(label(thing)) ?? 0) > 1;
  };
  const plain = (thing: Named) => thing.name;
  const made = ({ name, made_by, created }: Named) => `${name} (${made_by ? `${made_by}, ` : ""}${created.slice(0, 16).replace("T", " ")})`;
  const [isPlain, isMade] = [same(plain), same(made)];
  const label = (thing: Named) => (!isPlain(thing) ? thing.name : isMade(thing) ? `${made(thing)}, number ${thing.id}` : made(thing));
  return new Map(things.map((thing) => [thing.id, label(thing)]));
}

/** The same things under names that tell them apart. */
export function withTheirNames<T extends Named>(things: readonly T[]): T[] {
  const names = toldApart(things);
  return things.map((thing) => ({ ...thing, name: names.get(thing.id) ?? thing.name }));
}

/** A share as “12.5 %”. */
export const percent = (share: number, digits = 1) => `${(share * 100).toFixed(digits)} %`;

const SPLIT_WORDS: Record<string, string> = { train: "training" };

/** A split as people call it: “training”. */
export const saySplit = (split: string) => SPLIT_WORDS[split] ?? split;

const ORDER = ["train", "validation", "test"];

/** Splits with what belongs to them, in their usual order. */
export function inOrder<T>(splits: Record<string, T>): [string, T][] {
  const rank = (split: string) => (ORDER.includes(split) ? ORDER.indexOf(split) : ORDER.length);
  return Object.entries(splits).sort(([a], [b]) => rank(a) - rank(b));
}

/** “192 training + 6 validation + 6 test”, in that order wherever the counts come from. */
export function sayCounts(counts: Record<string, number>): string {
  return inOrder(counts)
    .map(([split, count]) => `${count} ${saySplit(split)}`)
    .join(" + ");
}

/** “7.1 MB” */
export function sayBytes(bytes: number): string {
  if (bytes < 1e6) return `${Math.max(1, Math.round(bytes / 1e3))} kB`;
  return bytes < 1e9 ? `${(bytes / 1e6).toFixed(bytes < 1e7 ? 1 : 0)} MB` : `${(bytes / 1e9).toFixed(1)} GB`;
}

/** “89 s”, “10 min”, “2.5 h” */
export function saySeconds(seconds: number): string {
  if (seconds < 90) return `${Math.max(1, Math.round(seconds))} s`;
  return seconds < 5400 ? `${Math.round(seconds / 60)} min` : `${(seconds / 3600).toFixed(1)} h`;
}

/** A phrase as a sentence of its own. */
export const sentence = (phrase: string) => (phrase ? `${capital(phrase)}.` : "");

/** A phrase with its first letter as a capital. */
export const capital = (phrase: string) => `${phrase[0]?.toUpperCase() ?? ""}${phrase.slice(1)}`;

/** A digest's beginning, which tells it from any other that one may meet. */
export const shortDigest = (digest: string) => digest.replace(/^(sha256:.{12}).*$/, "$1…");
