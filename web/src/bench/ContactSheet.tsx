import { Box, Button, Flex, NativeSelect, Slider, Text } from "@chakra-ui/react";
import { Shuffle } from "lucide-react";
import { memo, useMemo } from "react";
import type { Dataset, ImageRow, LabelObject, PipelineDocument, Tile } from "../api/client";
import { LAYERS, type Pick, useView } from "../state/view";
import { objectName } from "./Overlay";
import { Marks, pictureWidth, TileView } from "./TileView";
import { sayName } from "./values";

const PICKS: Record<Pick, string> = {
  spread: "evenly spread",
  smallest: "smallest objects",
  most: "most objects",
  random: "at random",
};

interface Props {
  dataset: Dataset;
  document: PipelineDocument;
  rows: ImageRow[];
  tiles: Map<number, Tile[]>;
  stale: boolean;
}

/** A row per image: the original, then its variants, labels drawn over them. */
export function ContactSheet({ dataset, document, rows, tiles, stale }: Props) {
  const variants = useView((view) => view.variants);
  const tileWidth = useView((view) => view.tileWidth);
  const stepNames = useMemo(() => new Map(document.steps.map((step) => [step.id, sayName(step.step)])), [document]);
  return (
    <Flex as="section" aria-label="Contact sheet" direction="column" height="100%" minWidth={0}>
      <SheetTools />
      <Box flex="1" minHeight={0} overflow="auto" px={4} pb={4} data-testid="sheet">
        <Flex
          gap="12px"
          position="sticky"
          top={0}
          zIndex={3}
          bg="bg"
          fontSize="11.5px"
          color="fg.muted"
          py="2px"
          width="max-content"
          minWidth="100%"
        >
          <Text width={`${tileWidth + 1}px`}>original</Text>
          {Array.from({ length: variants }, (_, number) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: columns are their numbers
            <Text key={number} width={`${tileWidth}px`} ml={number === 0 ? "11px" : 0}>
              {number + 1}
            </Text>
          ))}
        </Flex>
        <Flex direction="column" gap="12px">
          {rows.map((image) => (
            <Row
              key={image.id}
              image={image}
              tiles={tiles.get(image.id) ?? NONE}
              dataset={dataset}
              tileWidth={tileWidth}
              stale={stale}
              stepNames={stepNames}
            />
          ))}
        </Flex>
      </Box>
    </Flex>
  );
}

const NONE: Tile[] = [];

interface RowProps {
  image: ImageRow;
  tiles: Tile[];
  dataset: Dataset;
  tileWidth: number;
  stale: boolean;
  stepNames: Map<string, string>;
}

const Row = memo(function Row({ image, tiles, dataset, tileWidth, stale, stepNames }: RowProps) {
  const width = pictureWidth(tileWidth);
  const ghosts = useMemo(() => lostOnes(image, tiles, stepNames), [image, tiles, stepNames]);
  return (
    <Flex gap="12px" align="flex-start" data-row={image.id} width="max-content" title={image.key}>
      <TileView
        row={image.id}
        label={`Original ${image.key}`}
        tileWidth={tileWidth}
        dataset={dataset}
        stale={false}
        picture={`/api/pictures/${image.sha256}/${width}.jpg`}
        width={image.width}
        height={image.height}
        objects={image.objects_json as LabelObject[]}
      >
        <Ghosts ghosts={ghosts} width={image.width} height={image.height} />
      </TileView>
      <Box width="1px" alignSelf="stretch" bg="border" mx="-1px" />
      {tiles.map((tile) =>
        tile.error ? (
          <Box key={tile.variant} width={`${tileWidth}px`} p={2} bg="bg.sunken" color="loss" fontSize="12px">
            {tile.error}
          </Box>
        ) : (
          <TileView
            key={tile.variant}
            row={image.id}
            label={`Variant ${tile.variant} of ${image.key}`}
            tileWidth={tileWidth}
            dataset={dataset}
            stale={stale}
            picture={`${tile.address}/${width}.jpg`}
            width={tile.width}
            height={tile.height}
            objects={tile.objects as LabelObject[]}
          >
            <Marks tile={tile} stepNames={stepNames} />
          </TileView>
        ),
      )}
    </Flex>
  );
});

interface Ghost {
  name: string;
  box: number[];
  reason: string;
}

/** The row's own objects that some variant lost, with what the variants say of them. */
function lostOnes(image: ImageRow, tiles: Tile[], stepNames: Map<string, string>): Ghost[] {
  const reasons = new Map<string, string[]>();
  for (const tile of tiles) {
    for (const fate of tile.trace.objects.dropped) {
      if (fate.image !== image.key) continue;
      const said = reasons.get(fate.id) ?? [];
      said.push(`variant ${tile.variant}: ${fate.reason} (${stepNames.get(fate.step) ?? fate.step})`);
      reasons.set(fate.id, said);
    }
  }
  return (image.objects_json as LabelObject[])
    .filter((object) => reasons.has(object.id))
    .map((object) => ({ name: objectName(object), box: object.box, reason: (reasons.get(object.id) ?? []).join("\n") }));
}

function Ghosts({ ghosts, width, height }: { ghosts: Ghost[]; width: number; height: number }) {
  if (!ghosts.length) return null;
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      role="img"
      aria-label={`${ghosts.length} objects lost in some variant`}
      style={{ position: "absolute", inset: 0, width: "100%", height: "100%", pointerEvents: "none" }}
    >
      {ghosts.map(({ name, box: [x0 = 0, y0 = 0, x1 = 0, y1 = 0], reason }) => (
        <rect
          key={name}
          x={x0 - 5}
          y={y0 - 5}
          width={x1 - x0 + 10}
          height={y1 - y0 + 10}
          fill="none"
          stroke="#ff7b39"
          strokeWidth={1.5}
          strokeDasharray="4 3"
          vectorEffect="non-scaling-stroke"
          pointerEvents="stroke"
        >
          <title>{`lost in\n${reason}`}</title>
        </rect>
      ))}
    </svg>
  );
}

function SheetTools() {
  const { layers, pick, variants, tileWidth } = useView();
  return (
    <Flex align="center" gap={4} px={4} height="40px" flex="none" fontSize="12.5px">
      <Text as="h2" fontWeight={650} fontSize="14px" whiteSpace="nowrap">
        Contact sheet
      </Text>
      <Flex align="center" gap={1} flex="none">
        <NativeSelect.Root size="xs" width="140px">
          <NativeSelect.Field aria-label="Rows" value={pick} onChange={(event) => useView.setState({ pick: event.target.value as Pick })}>
            {Object.entries(PICKS).map(([value, label]) => (
              <option key={value} value={value}>
                {label}
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
        {pick === "random" && (
          <Button size="xs" variant="ghost" aria-label="Other images" onClick={() => useView.setState((view) => ({ turn: view.turn + 1 }))}>
            <Shuffle size={13} />
          </Button>
        )}
      </Flex>
      <Small label="variants" value={variants} min={1} max={12} change={(value) => useView.setState({ variants: value })} />
      <Small label="tile" value={tileWidth} min={96} max={480} step={8} change={(value) => useView.setState({ tileWidth: value })} />
      <Flex ml="auto" gap="2px" role="group" aria-label="Label layers">
        {LAYERS.map((layer) => (
          <Button
            key={layer}
            size="xs"
            px={2}
            variant="ghost"
            aria-pressed={layers[layer]}
            color={layers[layer] ? "amber.fg" : "fg.muted"}
            textDecoration={layers[layer] ? "underline" : undefined}
            textUnderlineOffset="5px"
            onClick={() => useView.setState((view) => ({ layers: { ...view.layers, [layer]: !view.layers[layer] } }))}
          >
            {layer}
          </Button>
        ))}
      </Flex>
    </Flex>
  );
}

function Small({
  label,
  value,
  min,
  max,
  step = 1,
  change,
}: {
  label: string;
  value: number;
  min: number;
  max: number;
  step?: number;
  change: (value: number) => void;
}) {
  return (
    <Flex align="center" gap={2} color="fg.muted" flex="none">
      <span>
        {label} {value}
      </span>
      <Slider.Root
        size="sm"
        width="72px"
        min={min}
        max={max}
        step={step}
        value={[value]}
        aria-label={[label]}
        onValueChange={(details) => change(details.value[0] ?? value)}
      >
        <Slider.Control>
          <Slider.Track bg="bg.emphasized">
            <Slider.Range bg="fg.muted" />
          </Slider.Track>
          <Slider.Thumb index={0} bg="fg" borderColor="bg" boxSize={3} />
        </Slider.Control>
      </Slider.Root>
    </Flex>
  );
}
