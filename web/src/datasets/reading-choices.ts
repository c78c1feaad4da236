import type { Schemas } from "../api/client";
import type { Recognised } from "./imports";

/** A class under the name it gets; without one its objects are left out. */
export interface ClassChoice {
  from: string;
  to: string;
  labels: number;
}

/** How a dataset is to be read, as a person chose it. */
export interface ReadingChoices {
  exif: "upright" | "stored";
  splits: "files" | "drawn";
  /** Whether drawn splits get each class alike. */
  stratify: boolean;
  shares: { validation: number; test: number; seed: number };
  /** "", folder, name, or field:NAME. */
  groups: string;
  pattern: string;
  maskClass: string;
  /** Keypoints that a mirror exchanges, as typed; null for those that were recognised. */
  pairs: string | null;
  classPairs: string;
  tile: { side: number; overlap: number };
  /** Patterns of files that are left out, as typed. */
  ignore: string;
  /** Null for the classes as they were recognised. */
  classes: ClassChoice[] | null;
}

export const AS_RECOGNISED: ReadingChoices = {
  exif: "upright",
  splits: "files",
  stratify: true,
  shares: { validation: 10, test: 10, seed: 0 },
  groups: "",
  pattern: "{group}_*",
  maskClass: "",
  pairs: null,
  classPairs: "",
  tile: { side: 0, overlap: 128 },
  ignore: "",
  classes: null,
};

export const classesOf = (found: Recognised, { classes }: ReadingChoices): ClassChoice[] =>
  classes ?? found.classes.map((each) => ({ from: each.name, to: each.name, labels: each.labels }));

/** What is asked of the server. */
export function optionsOf(found: Recognised, choices: ReadingChoices): Omit<Schemas["ImportOptionsRequest"], "name"> {
  const { exif, splits, stratify, shares, groups, pattern, maskClass, pairs, classPairs, tile, ignore, classes } = choices;
  return {
    form: found.format,
    exif,
    splits,
    shares: [shares.validation / 100, shares.test / 100],
    seed: shares.seed,
    stratify,
    groups: groups === "name" ? `name:${pattern}` : groups,
    mask_class: maskClass.trim(),
    levels: found.levels ?? "",
    mirror_classes: pairsIn(classPairs),
    ...(pairs === null ? {} : { mirror_pairs: pairsIn(pairs) }),
    ...(tile.side ? { tile: [tile.side, tile.side], overlap: tile.overlap } : {}),
    ...(ignore.trim() ? { ignore: listIn(ignore) } : {}),
    ...(found.reading ? { reading: found.reading } : {}),
    ...(classes ? { classes: classes.map((each) => [each.from, each.to.trim()]) } : {}),
  };
}

/** What is typed with commas between. */
export const listIn = (text: string): string[] =>
  text
    .split(",")
    .map((each) => each.trim())
    .filter(Boolean);

/** Pairs of names as they are typed: left:right, up:down. */
export const pairsIn = (text: string): string[][] =>
  listIn(text)
    .map((pair) => pair.split(":").map((name) => name.trim()))
    .filter((pair) => pair.length === 2 && pair.every(Boolean));
