import { memo, type PointerEvent, type RefObject, useLayoutEffect, useRef } from "react";
import type { Dataset, ImageRow, LabelObject } from "../api/client";
import { light, litIn, useView } from "../state/view";
import { drawLabels, sayDrawn } from "./draw-labels";
import { LabelMap, objectUnder } from "./Overlay";
import { objectName } from "./outlines";
import type { RowCanvas } from "./row-canvas";
import { sayClasses } from "./TileView";
import type { Look, Picture, TileFeed, Viewer } from "./tile-feed";
import { pictureWidth } from "./widths";
import "./tiles.css";

type Labelled = Pick<Dataset, "classes" | "lines"> & { map_classes?: string[] };

interface Common {
  /** What the tile is painted on, together with those beside it. */
  rowCanvas: RowCanvas;
  row: number;
  label: string;
  tileWidth: number;
  dataset: Labelled;
}

interface Props extends Common {
  feed: TileFeed;
  /** The spot of the feed that is shown. */
  spot: string;
  /** Height over width until its own is known. */
  ratio: number;
  /** Where the tile's label map is, once it is known. */
  map?: string | undefined;
}

/** One tile of a feed: picture and labels painted on a canvas as they come, with no part of React in between. */
export const PaintedTile = memo(function PaintedTile({ feed, spot, ratio, map, ...common }: Props) {
  const { rowCanvas, row, tileWidth, dataset } = common;
  const [figure, painter] = usePainter(common, ratio);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the painter is made anew with what it is made of
  useLayoutEffect(() => painter.current?.attachTo(feed, spot), [feed, spot, rowCanvas, row, tileWidth, ratio, dataset]);
  return <PaintedFigure figure={figure} painter={painter} map={map} {...common} />;
});

/** A source image painted beside the tiles made from it. */
export const PaintedSource = memo(function PaintedSource({ image, ...common }: Common & { image: ImageRow }) {
  const { rowCanvas, row, tileWidth, dataset } = common;
  const [figure, painter] = usePainter(common, image.height / image.width);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the painter is made anew with what it is made of
  useLayoutEffect(() => {
    let wanted = true;
    const picture = new Image();
    picture.src = `/api/pictures/${image.sha256}/${pictureWidth(tileWidth)}.jpg`;
    picture.decode().then(
      () => wanted && painter.current?.put(contentOf(image), picture, true),
      () => wanted && painter.current?.put(contentOf(image), null, true),
    );
    return () => {
      wanted = false;
    };
  }, [image, rowCanvas, row, tileWidth, dataset]);
  return <PaintedFigure figure={figure} painter={painter} map={`/api/images/${image.id}/map.png`} {...common} />;
});

const contentOf = ({ width, height, objects_json, classes }: ImageRow): Content => ({
  width,
  height,
  objects: objects_json as LabelObject[],
  classes,
});

function usePainter({ rowCanvas, row, tileWidth, dataset }: Common, ratio: number) {
  const figure = useRef<HTMLElement>(null);
  const painter = useRef<Painter | null>(null);
  useLayoutEffect(() => {
    if (!figure.current) return;
    const own = new Painter(figure.current, rowCanvas, row, tileWidth, ratio, dataset);
    painter.current = own;
    const forget = useView.subscribe((now, before) => {
      if (now.layers !== before.layers || litIn(now.lit, row) !== litIn(before.lit, row)) own.repaint();
    });
    return () => {
      forget();
      own.close();
    };
  }, [rowCanvas, row, tileWidth, ratio, dataset]);
  return [figure, painter] as const;
}

interface FigureProps extends Common {
  figure: RefObject<HTMLElement | null>;
  painter: RefObject<Painter | null>;
  map?: string | undefined;
}

/** What names a tile, is focused and pointed at; its pixels are the rowCanvas's. */
function PaintedFigure({ figure, painter, map, row, label, tileWidth, dataset }: FigureProps) {
  const masks = useView((view) => view.layers.masks);
  const point = (event: PointerEvent<HTMLElement>) => {
    const content = painter.current?.content;
    const found = content ? objectUnder(event, content.objects, content.width, content.height) : null;
    light(row, found && objectName(found));
  };
  return (
    <figure
      ref={figure}
      className="tile"
      aria-label={label}
      data-fresh="false"
      style={{ width: tileWidth }}
      onPointerMove={point}
      onPointerLeave={() => light(row, null)}
    >
      {masks && map && Boolean(dataset.map_classes?.length) && <LabelMap address={map} names={dataset.map_classes ?? []} />}
    </figure>
  );
}

interface Content {
  width: number;
  height: number;
  objects: readonly LabelObject[];
  classes: readonly string[] | Record<string, number>;
}

/** Paints a figure's picture and labels, and says on the figure what is shown. */
class Painter implements Viewer {
  content: Content | null = null;
  private made: string | null = null;
  private picture: Picture | HTMLImageElement | null = null;

  constructor(
    private readonly figure: HTMLElement,
    private readonly rowCanvas: RowCanvas,
    private readonly row: number,
    private readonly tileWidth: number,
    ratio: number,
    private readonly dataset: Labelled,
  ) {
    if (!figure.style.height) figure.style.height = `${tileWidth * ratio}px`;
    rowCanvas.place(figure, tileWidth, tileWidth * ratio);
  }

  attachTo(feed: TileFeed, spot: string): () => void {
    return feed.attach(spot, this);
  }

  show(look: Look, picture: Picture | null, made: string): void {
    this.made = look.made;
    this.put(look.tile as Content, picture, look.made === made);
    this.figure.dataset.tile = look.tile.address;
    this.figure.dataset.exact = String(look.exact);
  }

  put(content: Content, picture: Picture | HTMLImageElement | null, fresh: boolean): void {
    this.forget();
    this.picture = picture;
    this.content = content;
    const classes = sayClasses(content.classes);
    if (classes) this.figure.dataset.classes = classes;
    else delete this.figure.dataset.classes;
    this.repaint();
    this.say(fresh);
  }

  expect(made: string): void {
    this.say(this.made === made);
  }

  dim(): void {
    if (this.figure.dataset.fresh !== "true") this.figure.dataset.late = "true";
  }

  repaint(): void {
    if (!this.content) return;
    const { width, height, objects } = this.content;
    const zoom = this.tileWidth / width;
    this.figure.style.height = `${height * zoom}px`;
    this.rowCanvas.paint(this.figure, this.tileWidth, height * zoom, (pen, dots) => {
      if (this.picture) pen.drawImage(this.picture, 0, 0, Math.round(this.tileWidth * dots), Math.round(height * zoom * dots));
      const { layers, lit } = useView.getState();
      const { classes, lines } = this.dataset;
      const look = { classes, lines, layers, lit: litIn(lit, this.row) };
      sayDrawn(this.figure, objects, drawLabels(pen, objects, { width, height, zoom, dots }, look));
    });
  }

  close(): void {
    this.rowCanvas.remove(this.figure);
    this.forget();
  }

  private say(fresh: boolean): void {
    this.figure.dataset.fresh = String(fresh);
    if (fresh) delete this.figure.dataset.late;
  }

  private forget(): void {
    if (this.picture && "close" in this.picture) this.picture.close();
    this.picture = null;
  }
}
