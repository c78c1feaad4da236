import { Box, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, type Dataset, type ImageRow, take } from "../api/client";
import { imagesKey } from "../api/queries";
import { SourceTile } from "../picture/TileView";
import { PagedWall, usePaged, WALL_HIGH, WALL_TILE, WallHead } from "../shell/PagedWall";
import { saySplit } from "../words/figures";
import { ImageView } from "./ImageView";

export interface Filter {
  split?: string | undefined;
  class?: string | undefined;
  finding?: string | undefined;
  name?: string | undefined;
  /** Low-high: an object with a side in this range of px, a number of objects in this range. */
  side?: string | undefined;
  objects?: string | undefined;
  /** Low-high: an object's box in px, and its width over its height. */
  width?: string | undefined;
  height?: string | undefined;
  aspect?: string | undefined;
  /** A keypoint's name and state, name:hidden. */
  keypoint?: string | undefined;
  /** Width×height of the image, and what sort of file it is. */
  size?: string | undefined;
  kind?: string | undefined;
}

/** A dataset's images with their labels drawn. */
export function Wall({ dataset, filter, clear }: { dataset: Dataset; filter: Filter; clear: () => void }) {
  const [large, setLarge] = useState<number | null>(null);
  const paged = usePaged<ImageRow>({
    key: imagesKey(dataset, filter),
    fetch: async (offset, count) => {
      const page = await take(
        api.GET("/api/datasets/{id}/images", { params: { path: { id: dataset.id }, query: { ...filter, offset, count } } }),
      );
      return { total: page.total, items: page.images };
    },
    also: large,
  });
  const { total, itemAt } = paged;
  const shown = large === null || large >= total ? undefined : itemAt(large);
  return (
    <Flex direction="column" flex="1" minWidth={0} position="relative">
      {shown && large !== null && (
        <ImageView dataset={dataset} image={shown} filter={filter} place={large} total={total} go={setLarge} close={() => setLarge(null)} />
      )}
      <WallHead
        total={total}
        all={dataset.splits.reduce((sum, split) => sum + split.images, 0)}
        said={Object.entries(filter).flatMap(([name, value]) => (value ? [sayFilter(name, String(value))] : []))}
        clear={clear}
      />
      <PagedWall
        name="Images"
        paged={paged}
        tile={(image, place) => <WallTile dataset={dataset} image={image} open={() => setLarge(place)} />}
      />
    </Flex>
  );
}

/** One part of a filter in words. */
function sayFilter(name: string, value: string): string {
  const [low, high] = value.split("-");
  if (name === "split") return saySplit(value);
  if (name === "keypoint") return value.replace(":", ", ");
  if (name === "width" || name === "height") return `${name} ${Math.round(Number(low))} to ${Math.round(Number(high))} px`;
  if (name === "aspect") return `${low} to ${high} times as wide as high`;
  if (name === "side") return `side ${Math.round(Number(low))} to ${Math.round(Number(high))} px`;
  if (name === "objects") return low === "1" ? "1 object" : `${low} objects`;
  return name === "finding" ? value.replaceAll("-", " ") : value;
}

function WallTile({ dataset, image, open }: { dataset: Dataset; image: ImageRow; open: () => void }) {
  // Upright pictures are made narrower, so that all fit their row.
  const width = Math.min(WALL_TILE, Math.floor((WALL_HIGH * image.width) / image.height));
  return (
    <Box as="button" display="block" textAlign="left" title={image.key} aria-label={`Open ${image.key}`} cursor="zoom-in" onClick={open}>
      <SourceTile image={image} tileWidth={width} dataset={dataset} />
      <Text fontSize="caption" color="fg.muted" truncate mt="2px" width={`${WALL_TILE}px`}>
        {image.key.split("/").at(-1)}
      </Text>
    </Box>
  );
}
