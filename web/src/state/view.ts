import { create } from "zustand";

export type Layer = "boxes" | "polygons" | "masks" | "keypoints" | "names";
export type Pick = "spread" | "smallest" | "most" | "random";

/** What is looked at and how; nothing here changes the pipeline. */
interface View {
  selected: string | null;
  layers: Record<Layer, boolean>;
  pick: Pick;
  turn: number;
  variants: number;
  tileWidth: number;
  lit: { row: number; object: string } | null;
  edition: { variants: number; originals: boolean };
}

export const useView = create<View>()(() => ({
  selected: null,
  layers: { boxes: true, polygons: true, masks: true, keypoints: true, names: false },
  pick: "spread",
  turn: 0,
  variants: 4,
  tileWidth: 176,
  lit: null,
  edition: { variants: 3, originals: true },
}));

export const LAYERS: Layer[] = ["boxes", "polygons", "masks", "keypoints", "names"];
