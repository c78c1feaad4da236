import type { Schemas, Tile } from "../api/client";

/** A width that the server keeps pictures at. */
export type PictureWidth = NonNullable<Schemas["SheetRequestRequest"]["width"]>;

const WIDTHS: PictureWidth[] = [160, 240, 320, 480, 640, 960, 1280, 1920];

/** The kept width that is sharp at `width` screen pixels. */
export function pictureWidth(width: number): PictureWidth {
  const wanted = width * Math.min(window.devicePixelRatio || 1, 2);
  return WIDTHS.find((kept) => kept >= wanted) ?? 1920;
}

/** Where the picture of a tile is: with its labels, if it came wide enough, else at an address of its own. */
export function pictureOf(tile: Tile, width: number): string {
  const wanted = pictureWidth(width);
  return tile.picture && tile.picture_width >= wanted ? tile.picture : `${tile.address}/${wanted}.jpg`;
}
