import { Box, Button, CloseButton, Flex, IconButton, Text } from "@chakra-ui/react";
import { useQueries, useQuery } from "@tanstack/react-query";
import { Pin, ZoomIn, ZoomOut } from "lucide-react";
import { type KeyboardEvent, type ReactNode, useRef, useState } from "react";
import type { Dataset, ImageRow, LabelObject, PipelineDocument, Tile } from "../api/client";
import { askMoves, askSheetRow, askTrace } from "../api/queries";
import { LabelMap, Overlay } from "../picture/Overlay";
import { Readout, usePointedAt } from "../picture/Readout";
import { SourceTile, VariantTile } from "../picture/TileView";
import { Command, DrawnSteps, ObjectOutcomes, quoted, TraceTitle } from "../picture/TraceParts";
import { pictureWidth } from "../picture/widths";
import { FullView } from "../shell/FullView";
import { QuietSlider } from "../shell/fields";
import { fileName, saveFile } from "../shell/pipeline-file";
import { useRoom } from "../shell/use-browser";
import { useView } from "../state/view";
import { sayName } from "../words/steps";

/** Stands in a command for files that the server was sent, and knows no place of. */
const YOUR_COPY = "YOUR-COPY";
const FILM = 132;
/** What the line's slider and the zoom take of the height. */
const TOOLS = 28;
const STEPS: Record<string, [across: number, down: number]> = {
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, -1],
  ArrowDown: [0, 1],
};

interface Props {
  dataset: Dataset;
  document: PipelineDocument;
  image: ImageRow;
  tile: Tile;
  walk: (across: number, down: number) => void;
  close: () => void;
}

/** All that happened to one variant: before and after, the film of its steps, the draws, the fates, and how to recreate. */
export function TraceView({ dataset, document, image, tile, walk, close }: Props) {
  const full = useQuery(askTrace(tile.address));
  const pinned = useView((view) => view.pins.some((pin) => pin.image === image.id && pin.variant === tile.variant));
  const names = new Map(document.steps.map((step) => [step.id, sayName(step.step)]));
  const happened = tile.trace.steps.filter((step) => step.fired);
  const command = `varlen variant ${quoted(dataset.source || YOUR_COPY)} ${quoted(fileName(document))} ${quoted(image.key)} ${tile.variant} --seed ${document.seed} -o variant.png`;
  const pin = () =>
    useView.setState((view) => ({
      pins: pinned
        ? view.pins.filter((each) => each.image !== image.id || each.variant !== tile.variant)
        : [...view.pins, { dataset: dataset.id, image: image.id, variant: tile.variant }],
    }));
  const keys = (event: KeyboardEvent) => {
    if ((event.target as HTMLElement).closest("[role=slider]")) return;
    const step = STEPS[event.key];
    if (!step) return;
    event.preventDefault();
    walk(...step);
  };
  return (
    <FullView name={`Trace of variant ${tile.variant} of ${image.key}`} keys={keys} close={close}>
      <Flex direction="column" flex="1" minWidth={0} p={4} gap={3}>
        <Flex align="center" gap={3}>
          <Text fontWeight={650} truncate>
            {image.key}, variant {tile.variant}
          </Text>
          <Text color="fg.muted" whiteSpace="nowrap">
            {tile.width} × {tile.height} px, {`resampled ${tile.trace.passes} ×`}
          </Text>
          <Button
            size="xs"
            variant="outline"
            ml="auto"
            aria-pressed={pinned}
            onClick={pin}
            title="Keep this row on the sheet while editing"
          >
            <Pin size={13} /> {pinned ? "Pinned" : "Pin this draw"}
          </Button>
          <CloseButton size="sm" aria-label="Back to the sheet" onClick={close} />
        </Flex>
        <Divider dataset={dataset} image={image} tile={tile} />
        <Film dataset={dataset} document={document} image={image} tile={tile} />
      </Flex>
      <Box width="320px" flex="none" borderLeftWidth="1px" overflowY="auto" px={4} py={4} fontSize="body">
        <TraceTitle>drawn</TraceTitle>
        <DrawnSteps trace={tile.trace} name={(id) => names.get(id) ?? id} />
        {happened.length === 0 && <Text color="fg.muted">No step was applied: this variant is the original picture.</Text>}
        <TraceTitle>objects</TraceTitle>
        <ObjectOutcomes
          trace={tile.trace}
          name={(id) => names.get(id) ?? id}
          objects={[...image.objects_json, ...tile.objects] as LabelObject[]}
        />
        <TraceTitle>recreate</TraceTitle>
        {!dataset.source && (
          <Text color="fg.muted" mb={1}>
            This dataset was uploaded: put the path of your copy in place of {YOUR_COPY}.
          </Text>
        )}
        <Command text={command}>
          <Button size="2xs" variant="outline" onClick={() => saveFile(document)}>
            Save the pipeline's file
          </Button>
        </Command>
        <Moves tile={tile} name={(id) => names.get(id) ?? id} />
        <TraceTitle>pixel digest</TraceTitle>
        <Text fontFamily="mono" fontSize="caption" color="fg.muted" overflowWrap="anywhere" data-testid="pixel-digest">
          {full.data?.pixel_digest ?? "…"}
        </Text>
      </Box>
    </FullView>
  );
}

/** The composed matrix of each resample, on demand. */
function Moves({ tile, name }: { tile: Tile; name: (id: string) => string }) {
  const [open, setOpen] = useState(false);
  const found = useQuery({ ...askMoves(tile.address), enabled: open });
  return (
    <Box as="details" mt={4} onToggle={(event) => setOpen((event.currentTarget as unknown as HTMLDetailsElement).open)}>
      <Box as="summary" color="fg.muted" cursor="pointer">
        matrix
      </Box>
      {found.data?.length === 0 && <Text>Nothing is moved.</Text>}
      {found.data?.map((run) => (
        <Box key={run.steps.join()} mt={1}>
          <Text color="fg.muted">
            {run.steps.map(name).join(", ")}
            {run.bent && ", after a bend"}
          </Text>
          <Text as="pre" fontFamily="mono" fontSize="caption">
            {run.matrix.map((row) => row.map((value) => value.toFixed(5).padStart(11)).join(" ")).join("\n")}
          </Text>
        </Box>
      ))}
    </Box>
  );
}

const ZOOMS = [1, 1.5, 2, 3, 4, 6, 8];

/** The original left of a line that is dragged, the variant right of it; labels of each on its own side; both zoomed together. */
function Divider({ dataset, image, tile }: { dataset: Dataset; image: ImageRow; tile: Tile }) {
  const [frame, room] = useRoom();
  const [share, setShare] = useState(50);
  const [zoom, setZoom] = useState(1);
  const held = useRef<{ x: number; y: number } | null>(null);
  const layers = useView((view) => view.layers);
  const pointed = usePointedAt(tile.width, tile.height);
  const fitted = Math.max(80, Math.floor(Math.min(room.width, ((room.height - TOOLS) * tile.width) / tile.height)));
  const width = Math.round(fitted * zoom);
  const zoomTo = (next: number) => {
    const box = frame.current?.querySelector("[data-zoomed]");
    const [across, down] = box
      ? [middle(box.scrollLeft, box.clientWidth, box.scrollWidth), middle(box.scrollTop, box.clientHeight, box.scrollHeight)]
      : [0.5, 0.5];
    setZoom(next);
    // The middle of what was seen stays in the middle.
    requestAnimationFrame(() =>
      box?.scrollTo(across * box.scrollWidth - box.clientWidth / 2, down * box.scrollHeight - box.clientHeight / 2),
    );
  };
  const nearer = (by: number) => zoomTo(ZOOMS[Math.min(Math.max(ZOOMS.indexOf(zoom) + by, 0), ZOOMS.length - 1)] ?? 1);
  const sides = [
    {
      name: "before",
      picture: `/api/pictures/${image.sha256}/${pictureWidth(width)}.jpg`,
      width: image.width,
      height: image.height,
      objects: image.objects_json as LabelObject[],
      map: `/api/images/${image.id}/map.png`,
      clip: `inset(0 ${100 - share}% 0 0)`,
    },
    {
      name: "after",
      picture: `${tile.address}/${pictureWidth(width)}.jpg`,
      width: tile.width,
      height: tile.height,
      objects: tile.objects as LabelObject[],
      map: `${tile.address}/map.png`,
      clip: `inset(0 0 0 ${share}%)`,
    },
  ];
  return (
    <Flex ref={frame} direction="column" align="center" flex="1" minHeight={0}>
      <Box
        data-zoomed
        overflow={zoom > 1 ? "auto" : "hidden"}
        maxWidth="100%"
        width={`${fitted}px`}
        style={{ aspectRatio: `${tile.width} / ${tile.height}` }}
        cursor={zoom > 1 ? "grab" : undefined}
        onWheel={(event) => event.ctrlKey && nearer(event.deltaY < 0 ? 1 : -1)}
        onDoubleClick={() => zoomTo(zoom > 1 ? 1 : 3)}
        onPointerDown={(event) => {
          held.current = { x: event.clientX, y: event.clientY };
          event.currentTarget.setPointerCapture(event.pointerId);
        }}
        onPointerUp={() => {
          held.current = null;
        }}
        onPointerMove={(event) => {
          if (!held.current) return;
          event.currentTarget.scrollBy(held.current.x - event.clientX, held.current.y - event.clientY);
          held.current = { x: event.clientX, y: event.clientY };
        }}
      >
        <Box
          position="relative"
          width={`${width}px`}
          bg="bg.sunken"
          style={{ aspectRatio: `${tile.width} / ${tile.height}` }}
          onPointerMove={pointed.onPointerMove}
          onPointerLeave={pointed.onPointerLeave}
        >
          {sides.map((side) => (
            <Box key={side.name} as="figure" aria-label={side.name} position="absolute" inset={0} style={{ clipPath: side.clip }}>
              <Flex height="100%" justify="center" align="center">
                <Box position="relative" height="100%" maxWidth="100%" style={{ aspectRatio: `${side.width} / ${side.height}` }}>
                  <img
                    src={side.picture}
                    alt=""
                    draggable={false}
                    // From two screen pixels a picture's pixel on, pixels are what is looked at.
                    style={{
                      width: "100%",
                      height: "100%",
                      display: "block",
                      imageRendering: width >= 2 * side.width ? "pixelated" : undefined,
                    }}
                  />
                  {layers.masks && <LabelMap address={side.map} names={dataset.map_classes} />}
                  <Overlay
                    width={side.width}
                    height={side.height}
                    zoom={width / side.width}
                    objects={side.objects}
                    classes={dataset.classes}
                    lines={dataset.lines}
                    layers={layers}
                    lit={null}
                  />
                </Box>
              </Flex>
            </Box>
          ))}
          <Box
            position="absolute"
            top={0}
            bottom={0}
            width="2px"
            ml="-1px"
            bg="amber.solid"
            style={{ left: `${share}%` }}
            pointerEvents="none"
          />
        </Box>
      </Box>
      <Flex width={`${fitted}px`} align="center" gap={3} height={`${TOOLS}px`} flex="none">
        <QuietSlider label="Line between before and after" value={share} min={0} max={100} change={setShare} />
        <Readout address={`${tile.address}/pixel`} spot={pointed.spot} />
        <IconButton size="2xs" variant="ghost" aria-label="Zoom out" onClick={() => nearer(-1)} disabled={zoom === ZOOMS[0]}>
          <ZoomOut size={14} />
        </IconButton>
        <Text
          color="fg.muted"
          fontSize="small"
          width="52px"
          textAlign="center"
          title="screen pixels for one pixel of the variant"
          data-testid="zoom"
        >
          {((100 * width) / tile.width).toFixed(0)} %
        </Text>
        <IconButton size="2xs" variant="ghost" aria-label="Zoom in" onClick={() => nearer(1)} disabled={zoom === ZOOMS.at(-1)}>
          <ZoomIn size={14} />
        </IconButton>
      </Flex>
    </Flex>
  );
}

/** Where the middle of what is seen lies in the whole, 0 … 1. */
const middle = (scroll: number, seen: number, whole: number) => (scroll + seen / 2) / whole;

/** The picture after each step that happened; every step draws by itself, so the first steps alone draw the same. */
function Film({ dataset, document, image, tile }: { dataset: Dataset; document: PipelineDocument; image: ImageRow; tile: Tile }) {
  const fired = new Set(tile.trace.steps.filter((step) => step.fired).map((step) => step.id));
  const places = document.steps.flatMap((step, place) => (fired.has(step.id) && step.enabled ? [place] : []));
  const frames = useQueries({
    queries: places.map((place) => {
      const part = { ...document, steps: document.steps.slice(0, place + 1) };
      return askSheetRow(dataset, part, image.id, Math.max(tile.variant, 1), 0);
    }),
  });
  return (
    <Flex as="ol" aria-label="Film of the steps" listStyleType="none" gap={3} overflowX="auto" flex="none" pb={1}>
      <Frame name="source">
        <SourceTile image={image} label="source" tileWidth={FILM} dataset={dataset} />
      </Frame>
      {places.map((place, number) => {
        const step = document.steps[place];
        const found = frames[number]?.data?.tiles.find((each) => each.variant === tile.variant);
        return found?.address && step ? (
          <Frame key={step.id} name={sayName(step.step)}>
            <VariantTile tile={found} row={image.id} label={sayName(step.step)} tileWidth={FILM} dataset={dataset} />
          </Frame>
        ) : (
          <Box key={step?.id} width={`${FILM}px`} height="99px" flex="none" bg="bg.sunken" />
        );
      })}
    </Flex>
  );
}

function Frame({ name, children }: { name: string; children: ReactNode }) {
  return (
    <Box as="li" flex="none">
      {children}
      <Text fontSize="caption" color="fg.muted" mt="2px">
        {name}
      </Text>
    </Box>
  );
}
