import { Box, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, type Dataset, type Edition, type EditionRow, type LabelObject, take } from "../api/client";
import { editionImagesKey } from "../api/queries";
import { sayClasses, TileView } from "../picture/TileView";
import { pictureWidth } from "../picture/widths";
import { PagedWall, usePaged, WALL_HIGH, WALL_TILE, WallHead } from "../shell/PagedWall";
import { saySplit } from "../words/figures";
import { sayName } from "../words/steps";
import { EditionImage } from "./EditionImage";

export interface RowFilter {
  split?: string | undefined;
  step?: string | undefined;
  class?: string | undefined;
  lost?: "0" | "1" | undefined;
  variant?: string | undefined;
  name?: string | undefined;
}

/** What of a dataset its labels are drawn with; an edition's dataset may be gone. */
export type Drawn = Pick<Dataset, "classes" | "lines">;

interface Props {
  edition: Edition;
  dataset: Drawn;
  filter: RowFilter;
  clear: () => void;
}

/** An edition's images as they lie in their folder, with their labels drawn. */
export function EditionWall({ edition, dataset, filter, clear }: Props) {
  const [large, setLarge] = useState<number | null>(null);
  const paged = usePaged<EditionRow>({
    key: editionImagesKey(edition, filter),
    fetch: async (offset, count) => {
      const page = await take(
        api.GET("/api/editions/{id}/images", { params: { path: { id: edition.id }, query: { ...filter, offset, count } } }),
      );
      return { total: page.total, items: page.rows };
    },
    also: large,
  });
  const { total, itemAt } = paged;
  const shown = large === null || large >= total ? undefined : itemAt(large);
  return (
    <Flex direction="column" flex="1" minWidth={0}>
      {shown && large !== null && (
        <EditionImage
          edition={edition}
          dataset={dataset}
          row={shown}
          walk={(by) => setLarge(Math.min(Math.max(large + by, 0), total - 1))}
          close={() => setLarge(null)}
        />
      )}
      <WallHead
        total={total}
        all={edition.total}
        said={Object.entries(filter).flatMap(([name, value]) => (value ? [sayPart(name, String(value), edition)] : []))}
        clear={clear}
      />
      <PagedWall
        name="Images of the edition"
        paged={paged}
        tile={(row, place) => <RowTile row={row} dataset={dataset} open={() => setLarge(place)} />}
      />
    </Flex>
  );
}

function sayPart(name: string, value: string, edition: Edition): string {
  if (name === "split") return saySplit(value);
  if (name === "lost") return value === "1" ? "objects lost" : "no object lost";
  if (name === "variant") return value === "0" ? "originals" : `variant ${value}`;
  if (name === "step") return stepName(edition, value);
  return value;
}

/** A step's name by its id. */
export function stepName(edition: Edition, id: string): string {
  const step = (edition.document.steps as { id: string; step: string }[]).find((each) => each.id === id);
  return step ? sayName(step.step) : id;
}

/** One image of an edition as a tile. */
export function RowPicture({ row, dataset, width }: { row: EditionRow; dataset: Drawn; width: number }) {
  return (
    <TileView
      row={-1 - row.row}
      label={`${row.source}, variant ${row.variant}`}
      tileWidth={width}
      dataset={dataset}
      stale={false}
      picture={`${row.address}/${pictureWidth(width)}.jpg`}
      width={row.width}
      height={row.height}
      objects={row.objects as LabelObject[]}
      classes={sayClasses(row.image_classes)}
    />
  );
}

function RowTile({ row, dataset, open }: { row: EditionRow; dataset: Drawn; open: () => void }) {
  const width = Math.min(WALL_TILE, Math.floor((WALL_HIGH * row.width) / row.height));
  const lost = row.trace.objects.dropped.length;
  return (
    <Box as="button" display="block" textAlign="left" title={row.file} aria-label={`Open ${row.file}`} cursor="zoom-in" onClick={open}>
      <RowPicture row={row} dataset={dataset} width={width} />
      <Flex width={`${WALL_TILE}px`} fontSize="caption" color="fg.muted" mt="2px" gap={2}>
        <Text truncate flex="1">
          {row.source.split("/").at(-1)}
        </Text>
        {lost > 0 && <Text color="loss">{lost} lost</Text>}
        <Text>{row.variant || "original"}</Text>
      </Flex>
    </Box>
  );
}
