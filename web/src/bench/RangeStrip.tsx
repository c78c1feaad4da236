import { useDeferredValue, useEffect, useLayoutEffect, useState, useSyncExternalStore } from "react";
import type { Dataset, ImageRow, Parameter, PipelineDocument, PipelineStep } from "../api/client";
import { PaintedSource, PaintedTile } from "../picture/PaintedTile";
import { RowCanvas } from "../picture/row-canvas";
import { TileFeed } from "../picture/tile-feed";
import { pictureWidth } from "../picture/widths";
import { useView } from "../state/view";
import { sayParameter, sayRange } from "../words/steps";
import "./rail.css";

const PLACES = 5;
const TILE = 86;

interface Props {
  dataset: Dataset;
  document: PipelineDocument;
  image: ImageRow;
  step: PipelineStep;
  parameter: Parameter;
  ready: boolean;
}

/** One image at five values of one parameter, from its lowest to its highest, with this step alone. */
export function RangeStrip({ dataset, document, image, step, parameter, ready }: Props) {
  const held = useDeferredValue(useView((view) => heldOf(view.held, step, parameter)));
  const values = placesOf(step, parameter, held);
  const [rowCanvas] = useState(() => new RowCanvas());
  const strip = useStrip(dataset, document, image.id, step, parameter, ready);
  return (
    // biome-ignore lint/a11y/useSemanticElements: a group of pictures, not of fields
    <div role="group" aria-label={`${sayParameter(parameter)} from low to high`} className="row-canvas strip">
      <canvas ref={rowCanvas.setCanvas} />
      {/* The picture original takes the first of six places. */}
      <div className="strip-place" style={{ width: TILE }}>
        <PaintedSource rowCanvas={rowCanvas} image={image} row={image.id} label="original" tileWidth={TILE} dataset={dataset} />
        <p>original</p>
      </div>
      {values.map((value, place) => {
        const trouble = strip.tiles.get(String(place))?.error || strip.error?.message;
        const said = sayRange([value, value], parameter.unit);
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: a place in the strip keeps its tile while values change
          <div key={place} className="strip-place" style={{ width: TILE }}>
            <PaintedTile
              rowCanvas={rowCanvas}
              feed={strip.feed}
              spot={String(place)}
              row={image.id}
              label={`${sayParameter(parameter)} at ${said}`}
              tileWidth={TILE}
              ratio={image.height / image.width}
              dataset={dataset}
            />
            {trouble && <p className="tile-trouble">{trouble}</p>}
            <p>{said}</p>
          </div>
        );
      })}
    </div>
  );
}

type Held = ReturnType<typeof useView.getState>["held"];

/** The ends of a parameter while they are dragged. */
const heldOf = (held: Held, step: PipelineStep, parameter: Parameter) =>
  held?.step === step.id && held.parameter === parameter.name ? held.values : null;

/** The values along a strip: of the range as it is dragged or set, or of the slider for a single number. */
function placesOf(step: PipelineStep, parameter: Parameter, held: number[] | null): number[] {
  const isSpan = parameter.control === "span";
  const [low = 0, high = 1] = held ?? (isSpan ? (step[parameter.name] as number[]) : (parameter.slider ?? []));
  const [left = low, right = high] = low === high && isSpan ? (parameter.slider ?? []) : [low, high];
  return Array.from({ length: PLACES }, (_, place) => between([left, right], place / (PLACES - 1), parameter));
}

const SPOTS = Array.from({ length: PLACES }, (_, place) => String(place));
const ALL = new Set(SPOTS);

/** One image's first variant with the step alone at each value, in a feed of its own; it follows the hand before the page does. */
function useStrip(dataset: Dataset, document: PipelineDocument, image: number, step: PipelineStep, parameter: Parameter, ready: boolean) {
  const [feed] = useState(() => new TileFeed());
  useLayoutEffect(() => {
    const ask = (held: number[] | null) => {
      const documents = placesOf(step, parameter, held).map((value) => {
        const set = parameter.control === "span" ? [value, value] : value;
        const only: PipelineStep = { ...step, enabled: true, probability: 1, scope: "train", [parameter.name]: set };
        return { ...document, steps: [only] };
      });
      const spots = SPOTS.map((key, place) => ({ key, document: place, image, variant: 1 }));
      feed.ask({ dataset, documents, spots, sight: ALL, near: ALL, passing: false, width: pictureWidth(TILE) });
    };
    if (ready) ask(heldOf(useView.getState().held, step, parameter));
    // A key moves a range and lets it go at once: then the sheet comes first.
    let soon = 0;
    const forget = useView.subscribe((now, before) => {
      if (now.held === before.held) return;
      clearTimeout(soon);
      const held = heldOf(now.held, step, parameter);
      if (held) soon = window.setTimeout(() => ask(held));
    });
    return () => {
      forget();
      clearTimeout(soon);
    };
  }, [feed, dataset, document, image, step, parameter, ready]);
  useEffect(() => () => feed.stop(), [feed]);
  const { tiles, error } = useSyncExternalStore(feed.subscribe, feed.snapshot);
  return { feed, tiles, error };
}

/** A value at a share of the way, on the parameter's own scale. */
function between([low, high]: [number, number], share: number, parameter: Parameter): number {
  const value = parameter.log && low > 0 ? low * (high / low) ** share : low + (high - low) * share;
  return parameter.whole ? Math.round(value) : Number(value.toPrecision(6));
}

/** Whether a parameter has values to be shown along a strip. */
export function hasStrip(parameter: Parameter): boolean {
  return ["span", "number"].includes(parameter.control);
}
