import { memo, useCallback, useEffect, useState } from "react";
import type { Dataset, ImageRow, LabelObject, Tile } from "../api/client";
import { light, litIn, useView } from "../state/view";
import { percent } from "../words/figures";
import { LabelMap, Overlay } from "./Overlay";
import { pictureOf, pictureWidth } from "./widths";
import "./tiles.css";

/** Boxes that grew by more than this when they were turned are marked. */
const LOOSE = 1.3;

/** How long a picture that did not arrive is left alone before it is asked for once more. */
const RETRY_MS = 800;

interface Shown {
  picture: string;
  /** Where its label map is. */
  map?: string | undefined;
  width: number;
  height: number;
  objects: LabelObject[];
  /** What the whole picture shows, in words. */
  classes?: string | undefined;
}

/** Image-level classes in words, with their shares where pictures were mixed. */
export function sayClasses(classes: readonly string[] | Record<string, number>): string | undefined {
  const said = Array.isArray(classes)
    ? classes
    : Object.entries(classes as Record<string, number>).map(([name, share]) => (share < 0.995 ? `${name} ${percent(share, 0)}` : name));
  return said.length ? said.join(", ") : undefined;
}

interface Props extends Shown {
  /** What the tile is, whatever its picture is shown from. */
  address?: string;
  row: number;
  label: string;
  tileWidth: number;
  dataset: Pick<Dataset, "classes" | "lines"> & { map_classes?: string[] };
  /** True while an answer for newer settings is awaited. */
  stale: boolean;
  children?: React.ReactNode;
}

/** Each change of the page costs about as much as drawing ten tiles: those that arrive within this time change together. */
const TOGETHER_MS = 50;

let coming: (() => void)[] = [];
let lastShown = 0;

/** Show what has come with the next frame, or a little later if something was shown just now. */
function showSoon(show: () => void): void {
  if (!coming.length) setTimeout(() => requestAnimationFrame(showAll), Math.max(0, lastShown + TOGETHER_MS - performance.now()));
  coming.push(show);
}

function showAll(): void {
  const all = coming;
  coming = [];
  for (const each of all) each();
  lastShown = performance.now();
}

/** One tile: picture and labels change together, once the picture is there; until then the old ones dim. */
export const TileView = memo(function TileView({
  row,
  label,
  tileWidth,
  dataset,
  stale,
  address,
  picture,
  map,
  width,
  height,
  objects,
  classes,
  children,
}: Props) {
  const [shown, setShown] = useState<Shown | null>(null);
  const [failed, setFailed] = useState(false);
  const point = useCallback((object: string | null) => light(row, object), [row]);
  const layers = useView((view) => view.layers);
  const lit = useView((view) => litIn(view.lit, row));
  useEffect(() => {
    let wanted = true;
    const image = new Image();
    const show = () => {
      if (!wanted) return;
      setFailed(false);
      setShown({ picture, map, width, height, objects });
    };
    const load = (triesLeft: number) => {
      if (!wanted) return;
      image.src = picture;
      image.decode().then(
        () => showSoon(show),
        () => {
          if (triesLeft) setTimeout(() => load(triesLeft - 1), RETRY_MS);
          else if (wanted) setFailed(true);
        },
      );
    };
    load(1);
    return () => {
      wanted = false;
      if (!image.complete) image.src = "";
    };
  }, [picture, map, width, height, objects]);
  const size = shown ?? { width, height };
  const fresh = !stale && shown?.picture === picture;
  return (
    <figure
      className="tile"
      aria-label={label}
      data-fresh={fresh}
      data-tile={address}
      data-classes={classes}
      style={{ width: tileWidth, aspectRatio: `${size.width} / ${size.height}` }}
    >
      {shown && (
        <div className="tile-picture">
          <img src={shown.picture} alt="" draggable={false} />
          {layers.masks && shown.map && dataset.map_classes && <LabelMap address={shown.map} names={dataset.map_classes} />}
          <Overlay
            width={shown.width}
            height={shown.height}
            zoom={tileWidth / shown.width}
            objects={shown.objects}
            classes={dataset.classes}
            lines={dataset.lines}
            layers={layers}
            lit={lit}
            onPoint={point}
          />
          {children}
        </div>
      )}
      {failed && <p className="tile-trouble">This picture did not arrive.</p>}
    </figure>
  );
});

type Common = Pick<Props, "tileWidth" | "dataset" | "children"> & { label?: string };

/** A source image as a tile, with its own labels. */
export function SourceTile({ image, label = image.key, ...common }: Common & { image: ImageRow }) {
  return (
    <TileView
      {...common}
      row={image.id}
      label={label}
      stale={false}
      picture={`/api/pictures/${image.sha256}/${pictureWidth(common.tileWidth)}.jpg`}
      map={`/api/images/${image.id}/map.png`}
      width={image.width}
      height={image.height}
      objects={image.objects_json as LabelObject[]}
      classes={sayClasses(image.classes)}
    />
  );
}

/** A variant as a tile; `row`: the image it is made from. */
export function VariantTile({ tile, stale = false, ...common }: Common & { tile: Tile; row: number; label: string; stale?: boolean }) {
  return (
    <TileView
      {...common}
      stale={stale}
      address={tile.address}
      picture={pictureOf(tile, common.tileWidth)}
      map={`${tile.address}/map.png`}
      width={tile.width}
      height={tile.height}
      objects={tile.objects as LabelObject[]}
      classes={sayClasses(tile.classes)}
    />
  );
}

/** Quiet marks in a tile's corner: objects lost, blank share. */
export function Marks({ tile, stepNames, numbered }: { tile: Tile; stepNames: ReadonlyMap<string, string>; numbered?: boolean }) {
  const lost = tile.trace.objects.dropped;
  const blank = tile.trace.blank_share;
  const loose = tile.loose >= LOOSE;
  if (!lost.length && blank < 0.1 && !loose && !numbered) return null;
  const reasons = [...new Set(lost.map((fate) => `${fate.reason} (${stepNames.get(fate.step) ?? fate.step})`))].join("; ");
  return (
    <div className="tile-marks">
      {numbered && <span>variant {tile.variant}</span>}
      {lost.length > 0 && (
        <span className="tile-lost" title={reasons}>
          {lost.length} lost
        </span>
      )}
      {loose && <span title={`a box without an outline is ${tile.loose.toFixed(1)} times as large as its object`}>loose</span>}
      {blank >= 0.1 && <span title="share of the picture that no source pixel reached">{percent(blank, 0)} blank</span>}
    </div>
  );
}
