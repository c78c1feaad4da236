import { useMemo } from "react";
import { create } from "zustand";
import { persist } from "zustand/middleware";
import type { PipelineDocument } from "../api/client";
import type { RowsWish, WorstBy } from "../api/queries";

export type Layer = "boxes" | "polygons" | "masks" | "keypoints" | "names";
export type Pick = RowsWish["pick"] | WorstBy;

/** What rows can be chosen by that depends on the pipeline: where it does worst. */
export const WORST: Record<WorstBy, string> = {
  lost: "most objects lost",
  blank: "most blank",
  loose: "loosest boxes",
};

export const isWorst = (pick: Pick): pick is WorstBy => pick in WORST;

/** How an edition's files are written unless somebody chooses otherwise; the command line's defaults too. */
export const USUAL_FILES = { format: "", image: "jpeg", quality: 90 } as const;

/** How many training images are wished for: so many variants of each, so many in all, or so many labels of each class. */
export interface Wish {
  how: "variants" | "total" | "class";
  variants: number;
  total: number;
  perClass: number;
  balance: boolean;
  originals: boolean;
}

const USUAL_WISH: Wish = { how: "variants", variants: 3, total: 1000, perClass: 200, balance: false, originals: true };

/** What a wish means in an order. */
export const orderOf = (wish: Wish) => ({
  variants: wish.how === "variants" ? wish.variants : 0,
  originals: wish.originals,
  total: wish.how === "total" ? wish.total : 0,
  per_class: wish.how === "class" ? wish.perClass : 0,
  balance: wish.how !== "class" && wish.balance,
});

/** A draw to keep an eye on while editing. */
export interface Pinned {
  dataset: number;
  image: number;
  variant: number;
}

/** What is looked at and how; nothing here changes the pipeline. */
interface View {
  /** The dataset on the bench; the first there is, where none was chosen. */
  dataset: number | null;
  selected: string | null;
  layers: Record<Layer, boolean>;
  pick: Pick;
  turn: number;
  /** How many images are on the sheet. */
  rows: number;
  variants: number;
  /** The width of tiles, px; null for one that fills the sheet. */
  tileWidth: number | null;
  lit: { row: number; object: string } | null;
  edition: Wish;
  /** The parameter whose strip is shown, and its ends while a slider is dragged. */
  focus: { step: string; parameter: string } | null;
  held: { step: string; parameter: string; values: number[] } | null;
  pins: Pinned[];
  /** One image alone on the sheet: its place among those that a wall was narrowed to. */
  alone: Alone | null;
  /** The variant that is looked at large. */
  large: { image: number; variant: number } | null;
  /** Only this step happens, for looking; the pipeline stays as it is. */
  solo: string | null;
  /** What the sheet is held against. */
  against: Against | null;
}

/** The `place`th of a dataset's images that meet a filter, of `total`. */
export interface Alone {
  dataset: number;
  filter: object;
  place: number;
  total: number;
}

/** Another pipeline, or another revision of this one. */
export interface Against {
  name: string;
  document: PipelineDocument;
}

const BEGINNING: View = {
  dataset: null,
  selected: null,
  layers: { boxes: true, polygons: true, masks: true, keypoints: true, names: false },
  pick: "spread",
  turn: 0,
  rows: 6,
  variants: 4,
  tileWidth: null,
  lit: null,
  edition: USUAL_WISH,
  focus: null,
  held: null,
  pins: [],
  alone: null,
  large: null,
  solo: null,
  against: null,
};

/** How the sheet is laid out, what is pinned and what it is held against outlive a visit; what is pointed at does not. */
export const useView = create<View>()(
  persist(() => BEGINNING, {
    name: "varlen-view",
    // What was kept before there were other ways to wish has only some of these.
    merge: (kept, now) => ({ ...now, ...(kept as Partial<View>), edition: { ...now.edition, ...(kept as Partial<View>)?.edition } }),
    partialize: ({ dataset, pick, rows, variants, tileWidth, layers, pins, against, edition }) => ({
      dataset,
      pick,
      rows,
      variants,
      tileWidth,
      layers,
      pins,
      against,
      edition,
    }),
  }),
);

/** What is pointed at in a row. */
export const litIn = (lit: View["lit"], row: number) => (lit?.row === row ? lit.object : null);

/** Light an object in all tiles of its row. */
export function light(row: number, object: string | null): void {
  if (object !== litIn(useView.getState().lit, row)) useView.setState({ lit: object === null ? null : { row, object } });
}

/** The image that is alone on the sheet: the one chosen, or the only one of its dataset. */
export function useAlone(dataset: { id: number; splits: { images: number }[] }): Alone | null {
  const { id, splits } = dataset;
  const chosen = useView(({ alone }) => (alone?.dataset === id ? alone : null));
  const only = splits.reduce((sum, split) => sum + split.images, 0) === 1;
  return useMemo(() => chosen ?? (only ? { dataset: id, filter: {}, place: 0, total: 1 } : null), [chosen, only, id]);
}

/** The image before or after the one that is alone on the sheet. */
export function walkAlone(by: number): void {
  useView.setState(({ alone }) =>
    alone ? { alone: { ...alone, place: Math.min(Math.max(alone.place + by, 0), alone.total - 1) }, large: null } : {},
  );
}

export const LAYERS: Layer[] = ["boxes", "polygons", "masks", "keypoints", "names"];
