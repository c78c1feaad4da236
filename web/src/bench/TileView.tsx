import { Box, Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import type { Dataset, LabelObject, Tile } from "../api/client";
import { useView } from "../state/view";
import { Overlay } from "./Overlay";
import { percent } from "./values";

const WIDTHS = [160, 240, 320, 480, 640, 960, 1280, 1920];

/** The kept picture width that is sharp at `width` screen pixels. */
export function pictureWidth(width: number): number {
  const wanted = width * Math.min(window.devicePixelRatio || 1, 2);
  return WIDTHS.find((kept) => kept >= wanted) ?? 1920;
}

interface Shown {
  picture: string;
  width: number;
  height: number;
  objects: LabelObject[];
}

interface Props extends Shown {
  row: number;
  label: string;
  tileWidth: number;
  dataset: Dataset;
  /** True while an answer for newer settings is awaited. */
  stale: boolean;
  children?: React.ReactNode;
}

/** One tile: picture and labels change together, once the picture is there; until then the old ones dim. */
export function TileView({ row, label, tileWidth, dataset, stale, picture, width, height, objects, children }: Props) {
  const [shown, setShown] = useState<Shown | null>(null);
  const [failed, setFailed] = useState(false);
  const layers = useView((view) => view.layers);
  const lit = useView((view) => (view.lit?.row === row ? view.lit.object : null));
  useEffect(() => {
    let wanted = true;
    const image = new Image();
    image.src = picture;
    image.decode().then(
      () => {
        if (!wanted) return;
        setFailed(false);
        setShown({ picture, width, height, objects });
      },
      () => wanted && setFailed(true),
    );
    return () => {
      wanted = false;
      if (!image.complete) image.src = "";
    };
  }, [picture, width, height, objects]);
  const size = shown ?? { width, height };
  const fresh = !stale && shown?.picture === picture;
  return (
    <Box
      as="figure"
      aria-label={label}
      data-fresh={fresh}
      position="relative"
      width={`${tileWidth}px`}
      flex="none"
      bg="bg.sunken"
      overflow="hidden"
      style={{ aspectRatio: `${size.width} / ${size.height}` }}
    >
      {shown && (
        <Box position="absolute" inset={0} opacity={fresh ? 1 : 0.55} transition="opacity 120ms">
          <img src={shown.picture} alt="" draggable={false} style={{ width: "100%", height: "100%", display: "block" }} />
          <Overlay
            width={shown.width}
            height={shown.height}
            zoom={tileWidth / shown.width}
            objects={shown.objects}
            classes={dataset.classes}
            lines={dataset.lines}
            layers={layers}
            lit={lit}
            onPoint={(object) => useView.setState({ lit: object === null ? null : { row, object } })}
          />
          {children}
        </Box>
      )}
      {failed && (
        <Text position="absolute" inset={0} p={2} fontSize="12px" color="loss">
          This picture did not arrive.
        </Text>
      )}
    </Box>
  );
}

/** Quiet marks in a tile's corner: objects lost, blank share. */
export function Marks({ tile, stepNames }: { tile: Tile; stepNames: Map<string, string> }) {
  const lost = tile.trace.objects.dropped;
  const blank = tile.trace.blank_share;
  if (!lost.length && blank < 0.1) return null;
  const reasons = [...new Set(lost.map((fate) => `${fate.reason} (${stepNames.get(fate.step) ?? fate.step})`))].join("; ");
  return (
    <Box position="absolute" right="3px" bottom="3px" display="flex" gap="3px" fontSize="10.5px" fontWeight={600} lineHeight="15px">
      {lost.length > 0 && (
        <Box title={reasons} bg="black/70" color="#ff9d66" px="4px" borderRadius="2px">
          {lost.length} lost
        </Box>
      )}
      {blank >= 0.1 && (
        <Box title="share of the picture that no source pixel reached" bg="black/70" color="#ffffff" px="4px" borderRadius="2px">
          {percent(blank, 0)} blank
        </Box>
      )}
    </Box>
  );
}
