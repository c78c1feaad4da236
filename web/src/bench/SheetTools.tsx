import { Button, Flex, NativeSelect, Text } from "@chakra-ui/react";
import { ChevronLeft, ChevronRight, Shuffle } from "lucide-react";
import { memo } from "react";
import { useShallow } from "zustand/react/shallow";
import type { Dataset, PipelineDocument } from "../api/client";
import { QuietSlider } from "../shell/fields";
import { type Alone, LAYERS, type Pick, useAlone, useView, WORST, walkAlone } from "../state/view";
import { AdviceList } from "./Advice";
import { ComparisonChoice } from "./Comparison";
import { NARROWEST, WIDEST } from "./sheet";

const PICKS: Record<Exclude<Pick, keyof typeof WORST>, string> = {
  spread: "evenly spread",
  smallest: "smallest objects",
  most: "most objects",
  random: "at random",
  pinned: "pinned draws",
};

interface Props {
  dataset: Dataset;
  tileWidth: number;
  /** The pipeline on the bench, as the server knows it. */
  pipeline: number | null;
  /** The document that the sheet shows. */
  current: () => PipelineDocument;
  /** Every tile's labels are there. */
  ready: boolean;
}

/** What stands above a sheet: how it is laid out, what it is held against, notes, layers. */
export const SheetTools = memo(function SheetTools({ dataset, tileWidth, pipeline, current, ready }: Props) {
  return (
    <>
      <Layout dataset={dataset} tileWidth={tileWidth} />
      <ComparisonChoice pipeline={pipeline} />
      <AdviceList dataset={dataset} current={current} ready={ready} />
      <Layers />
    </>
  );
});

/** Choose rows in one of the ways, or one image alone, the first. */
function pickRows(dataset: Dataset, way: string): void {
  const training = dataset.splits.find((split) => split.split === "train")?.images ?? 0;
  const total = training || dataset.splits.reduce((sum, split) => sum + split.images, 0);
  const filter = training ? { split: "train" } : {};
  if (way === "alone") useView.setState({ alone: { dataset: dataset.id, filter, place: 0, total }, large: null });
  else useView.setState({ pick: way as Pick });
}

/** Which images are on the sheet, how many variants of each, how large. */
const Layout = memo(function Layout({ dataset, tileWidth }: { dataset: Dataset; tileWidth: number }) {
  const alone = useAlone(dataset);
  const { pick, rows, variants, fits, pins } = useView(
    useShallow(({ pick, rows, variants, tileWidth, pins }) => ({ pick, rows, variants, fits: tileWidth === null, pins })),
  );
  const pinned = pins.some((pin) => pin.dataset === dataset.id);
  if (alone) return alone.total > 1 ? <OneImage alone={alone} /> : null;
  return (
    <>
      <Flex align="center" gap={1} flex="none">
        <NativeSelect.Root size="xs" width="116px">
          <NativeSelect.Field aria-label="Rows" value={pick} onChange={(event) => pickRows(dataset, event.target.value)}>
            <option value="alone">one image, large</option>
            {Object.entries(PICKS).map(([value, label]) =>
              value === "pinned" && !pinned ? null : (
                <option key={value} value={value}>
                  {label}
                </option>
              ),
            )}
            <optgroup label="worst first">
              {Object.entries(WORST).map(([value, label]) => (
                <option key={value} value={value}>
                  {label}
                </option>
              ))}
            </optgroup>
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
        {pick === "random" && (
          <Button size="xs" variant="ghost" aria-label="Other images" onClick={() => useView.setState((view) => ({ turn: view.turn + 1 }))}>
            <Shuffle size={13} />
          </Button>
        )}
      </Flex>
      <Small label="rows" name="number of images" value={rows} min={1} max={50} change={(value) => useView.setState({ rows: value })} />
      <Small label="variants" value={variants} min={1} max={12} change={(value) => useView.setState({ variants: value })} />
      <Flex align="center" gap={1} flex="none">
        <Small
          label="tile"
          value={tileWidth}
          min={NARROWEST}
          max={WIDEST}
          step={8}
          change={(value) => useView.setState({ tileWidth: value })}
        />
        <Button
          size="xs"
          px={1.5}
          variant="ghost"
          aria-pressed={fits}
          title="Tiles that fill the sheet's width"
          color={fits ? "amber.fg" : "fg.muted"}
          textDecoration={fits ? "underline" : undefined}
          textUnderlineOffset="5px"
          onClick={() => useView.setState({ tileWidth: fits ? tileWidth : null })}
        >
          fit
        </Button>
      </Flex>
    </>
  );
});

/** Which image is alone on the sheet, the one before and after it, and the way back to rows. */
function OneImage({ alone: { place, total } }: { alone: Alone }) {
  return (
    <Flex align="center" gap={2} flex="none" fontSize="body">
      <Button
        size="xs"
        variant="outline"
        aria-label="The image before"
        title="The image before (←)"
        disabled={place === 0}
        onClick={() => walkAlone(-1)}
      >
        <ChevronLeft size={14} />
      </Button>
      <Text role="status">
        image {place + 1} of {total}
      </Text>
      <Button
        size="xs"
        variant="outline"
        aria-label="The next image"
        title="The next image (→)"
        disabled={place >= total - 1}
        onClick={() => walkAlone(1)}
      >
        <ChevronRight size={14} />
      </Button>
      <Button size="xs" variant="outline" onClick={() => useView.setState({ alone: null, large: null })}>
        Several images
      </Button>
    </Flex>
  );
}

/** Which layers of labels are drawn. */
const Layers = memo(function Layers() {
  const layers = useView((view) => view.layers);
  return (
    <Flex ml="auto" gap="2px" role="group" aria-label="Label layers">
      {LAYERS.map((layer) => (
        <Button
          key={layer}
          size="xs"
          px={1.5}
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
  );
});

function Small({
  label,
  name = label,
  value,
  min,
  max,
  step = 1,
  change,
}: {
  label: string;
  name?: string;
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
      <QuietSlider label={name} value={value} min={min} max={max} step={step} width="44px" change={change} />
    </Flex>
  );
}
