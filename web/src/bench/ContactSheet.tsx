import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { Dataset, ImageRow, LabelObject, PipelineDocument, Tile } from "../api/client";
import { objectName } from "../picture/outlines";
import { PaintedSource, PaintedTile } from "../picture/PaintedTile";
import { RowCanvas } from "../picture/row-canvas";
import { Marks } from "../picture/TileView";
import type { TileFeed } from "../picture/tile-feed";
import { lazyPart } from "../shell/views";
import { useView } from "../state/view";
import type { AgainstTiles } from "./Comparison";
import { ComparisonLine } from "./Comparison";
import { SheetTools } from "./SheetTools";
import { AROUND, type Leading, noteScroll, type Sight, spotOf, TILE_GAP, variantsOf } from "./sheet";

const TraceView = lazyPart(async () => (await import("./TraceView")).TraceView);

interface Props {
  dataset: Dataset;
  /** The document that the sheet shows. */
  current: () => PipelineDocument;
  /** What its steps are called, by their ids. */
  names: ReadonlyMap<string, string>;
  tileWidth: number;
  rows: ImageRow[];
  feed: TileFeed;
  tiles: Map<number, Tile[]>;
  /** The variant that comes first on a row, where rows are chosen by it. */
  leading: Leading;
  variants: number;
  /** The sheet is of one image, whose variants take as many lines as they need. */
  alone: boolean;
  /** Told which rows are in sight. */
  look: (sight: Sight) => void;
  /** Every tile's labels are there. */
  ready: boolean;
  /** The pipeline on the bench, as the server knows it. */
  pipeline: number | null;
  against: AgainstTiles | null;
}

/** A row per image: the original, then its variants, labels drawn over them. */
export const ContactSheet = memo(function ContactSheet({
  dataset,
  current,
  names,
  tileWidth,
  rows,
  feed,
  tiles,
  leading,
  variants,
  alone,
  look,
  ready,
  pipeline,
  against,
}: Props) {
  const large = useView((view) => view.large);
  const opened = useRef<HTMLElement | null>(null);
  const box = useRef<HTMLDivElement>(null);
  const lines = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: (place) => rowHeight(rows[place], tileWidth) * (against ? 2 : 1),
    getItemKey: (place) => rows[place]?.id ?? place,
    gap: GAP,
    overscan: AROUND,
  });
  const { startIndex: first, endIndex: last } = lines.range ?? { startIndex: 0, endIndex: 3 };
  const passing = lines.isScrolling;
  useEffect(() => look({ first, last, passing }), [look, first, last, passing]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: measured anew when tiles change their size
  useEffect(() => lines.measure(), [tileWidth, against === null]);
  const shown = lines.getVirtualItems();
  const image = rows.find((row) => row.id === large?.image);
  const tile = large && tiles.get(large.image)?.find((each) => each.variant === large.variant);
  const walk = (across: number, down: number) => {
    const place = rows.findIndex((row) => row.id === large?.image);
    const row = rows[Math.min(Math.max(place + down, 0), rows.length - 1)];
    const found = row && tiles.get(row.id);
    if (!row || !found?.length || !large) return;
    const now = Math.max(
      0,
      found.findIndex((each) => each.variant === large.variant),
    );
    const next = found[Math.min(Math.max(now + across, 0), found.length - 1)];
    if (down) lines.scrollToIndex(rows.indexOf(row), { align: "auto" });
    if (next) useView.setState({ large: { image: row.id, variant: next.variant } });
  };
  const close = () => {
    useView.setState({ large: null });
    opened.current?.focus();
  };
  const open = useCallback((image: number, variant: number, from: HTMLElement) => {
    opened.current = from;
    useView.setState({ large: { image, variant } });
  }, []);
  return (
    <section className="sheet" aria-label="Contact sheet">
      <div className="sheet-tools">
        <SheetTools dataset={dataset} tileWidth={tileWidth} pipeline={pipeline} current={current} ready={ready} />
      </div>
      {against && <ComparisonLine against={against} />}
      {image && tile?.address && <TraceView dataset={dataset} document={current()} image={image} tile={tile} walk={walk} close={close} />}
      <div ref={box} className="sheet-rows" data-testid="sheet" onScroll={noteScroll}>
        {!alone && <Columns variants={variants} tileWidth={tileWidth} worst={leading.size > 0} />}
        <div
          className="sheet-list"
          style={{ paddingTop: shown[0]?.start ?? 0, paddingBottom: Math.max(0, lines.getTotalSize() - (shown.at(-1)?.end ?? 0)) }}
        >
          {shown.map(({ index }) => {
            const image = rows[index];
            return (
              image && (
                <div key={image.id} ref={lines.measureElement} data-index={index}>
                  <Row
                    image={image}
                    feed={feed}
                    variants={variants}
                    wrapped={alone}
                    lead={leading.get(image.id)}
                    tiles={tiles.get(image.id) ?? NONE}
                    dataset={dataset}
                    tileWidth={tileWidth}
                    stepNames={names}
                    open={open}
                  />
                  {against && (
                    <div className="sheet-other">
                      <Row
                        image={image}
                        feed={against.feed}
                        variants={variants}
                        wrapped={alone}
                        lead={leading.get(image.id)}
                        tiles={against.tiles.get(image.id) ?? NONE}
                        dataset={dataset}
                        tileWidth={tileWidth}
                        stepNames={names}
                        other={against.name}
                      />
                    </div>
                  )}
                </div>
              )
            );
          })}
        </div>
      </div>
    </section>
  );
});

/** The numbers of the variants, above their columns. */
const Columns = memo(function Columns({ variants, tileWidth, worst }: { variants: number; tileWidth: number; worst: boolean }) {
  return (
    <div className="sheet-columns">
      <p style={{ width: tileWidth + 1 }}>original</p>
      {Array.from({ length: variants }, (_, number) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: columns are their numbers
        <p key={number} style={{ width: tileWidth, marginLeft: number === 0 ? 11 : 0 }}>
          {worst ? (number === 0 ? "worst" : "") : number + 1}
        </p>
      ))}
    </div>
  );
});

const GAP = TILE_GAP;

const rowHeight = (image: ImageRow | undefined, tileWidth: number) => (image ? (tileWidth * image.height) / image.width : tileWidth);

const NONE: Tile[] = [];

interface RowProps {
  image: ImageRow;
  feed: TileFeed;
  variants: number;
  wrapped: boolean;
  /** The variant that comes first, if another than the first does. */
  lead: number | undefined;
  tiles: Tile[];
  dataset: Dataset;
  tileWidth: number;
  stepNames: ReadonlyMap<string, string>;
  /** What the tiles were made with, where that is not the pipeline on the bench. */
  other?: string;
  open?: (image: number, variant: number, from: HTMLElement) => void;
}

const Row = memo(function Row({ image, feed, variants, wrapped, lead, tiles, dataset, tileWidth, stepNames, other, open }: RowProps) {
  const pins = useView((view) => view.pins);
  const [rowCanvas] = useState(() => new RowCanvas());
  const ghosts = useMemo(() => lostOnes(image, tiles, stepNames), [image, tiles, stepNames]);
  return (
    <div className="row-canvas sheet-row" data-wrapped={wrapped || undefined} data-row={image.id} title={image.key}>
      <canvas ref={rowCanvas.setCanvas} />
      <div className="sheet-source" style={{ width: tileWidth }}>
        {other ?? (
          <>
            <PaintedSource
              rowCanvas={rowCanvas}
              image={image}
              row={image.id}
              label={`Original ${image.key}`}
              tileWidth={tileWidth}
              dataset={dataset}
            />
            <Ghosts ghosts={ghosts} width={image.width} height={image.height} />
          </>
        )}
      </div>
      {variantsOf(image, variants, lead).map((variant) => {
        const tile = tiles.find((each) => each.variant === variant);
        return (
          <div key={variant} className="tile-place">
            <Handle
              image={image}
              variant={variant}
              pinned={pins.some((pin) => pin.image === image.id && pin.variant === variant)}
              open={open}
            >
              <PaintedTile
                rowCanvas={rowCanvas}
                feed={feed}
                spot={spotOf(image.id, variant)}
                row={image.id}
                label={`Variant ${variant} of ${image.key}${other === undefined ? "" : `, ${other}`}`}
                tileWidth={tileWidth}
                ratio={image.height / image.width}
                dataset={dataset}
                map={tile?.address && `${tile.address}/map.png`}
              />
            </Handle>
            {tile?.error ? (
              <p className="tile-trouble">{tile.error}</p>
            ) : (
              tile && <Marks tile={tile} stepNames={stepNames} numbered={wrapped || lead !== undefined} />
            )}
          </div>
        );
      })}
    </div>
  );
});

interface HandleProps {
  image: ImageRow;
  open: RowProps["open"];
  variant: number;
  pinned: boolean;
  children: React.ReactNode;
}

/** What a tile is opened by; the tiles of what the sheet is held against stay small. */
function Handle({ image, variant, pinned, open, children }: HandleProps) {
  if (!open) {
    return (
      <div className="tile-handle" data-pinned={pinned}>
        {children}
      </div>
    );
  }
  return (
    <button
      type="button"
      className="tile-handle"
      data-pinned={pinned}
      aria-label={`Look at variant ${variant} of ${image.key}`}
      onClick={(event) => open(image.id, variant, event.currentTarget)}
    >
      {children}
    </button>
  );
}

interface Ghost {
  name: string;
  box: number[];
  reason: string;
}

/** The row's own objects that some variant lost, with what the variants say of them. */
function lostOnes(image: ImageRow, tiles: Tile[], stepNames: ReadonlyMap<string, string>): Ghost[] {
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
