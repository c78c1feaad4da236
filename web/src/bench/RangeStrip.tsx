import { Box, Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useDeferredValue } from "react";
import type { Dataset, ImageRow, Parameter, PipelineDocument, PipelineStep } from "../api/client";
import { askStrip, keepOf } from "../api/queries";
import { SourceTile, VariantTile } from "../picture/TileView";
import { pictureWidth } from "../picture/widths";
import { useView } from "../state/view";
import { sayParameter, sayRange } from "../words/steps";

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
  const held = useView((view) => (view.held?.step === step.id && view.held.parameter === parameter.name ? view.held.values : null));
  const set = step[parameter.name];
  const isSpan = parameter.control === "span";
  const [low = 0, high = 1] = useDeferredValue(held ?? (isSpan ? (set as number[]) : (parameter.slider ?? [])));
  const wide = low === high && isSpan ? (parameter.slider ?? [low, high]) : [low, high];
  const values = Array.from({ length: PLACES }, (_, place) => between(wide as [number, number], place / (PLACES - 1), parameter));
  const steps = values.map((value) => ({
    ...step,
    enabled: true,
    probability: 1,
    scope: "train",
    [parameter.name]: isSpan ? [value, value] : value,
  }));
  const strip = useQuery({
    ...askStrip(dataset, document, image.id, steps, pictureWidth(TILE)),
    enabled: ready || held !== null,
    placeholderData: keepOf(dataset.id),
  });
  return (
    <Box role="group" aria-label={`${sayParameter(parameter)} from low to high`} mb={4}>
      <Flex gap="9px" wrap="wrap">
        {/* The picture original takes the first of six places. */}
        <Box width={`${TILE}px`}>
          <SourceTile image={image} label="original" tileWidth={TILE} dataset={dataset} />
          <Text fontSize="caption" color="fg.muted" textAlign="center" mt="2px">
            original
          </Text>
        </Box>
        {values.map((value, place) => {
          const tile = strip.data?.tiles[place];
          return (
            // biome-ignore lint/suspicious/noArrayIndexKey: a place in the strip keeps its tile while values change
            <Box key={place} width={`${TILE}px`}>
              {tile?.address ? (
                <VariantTile
                  tile={tile}
                  row={image.id}
                  label={`${sayParameter(parameter)} at ${sayRange([value, value], parameter.unit)}`}
                  tileWidth={TILE}
                  dataset={dataset}
                  stale={strip.isPlaceholderData}
                />
              ) : (
                <Box height={`${TILE * 0.75}px`} bg="bg.sunken" fontSize="caption" color="loss" p={1} overflow="hidden">
                  {tile?.error ?? strip.error?.message}
                </Box>
              )}
              <Text fontSize="caption" color="fg.muted" textAlign="center" mt="2px">
                {sayRange([value, value], parameter.unit)}
              </Text>
            </Box>
          );
        })}
      </Flex>
    </Box>
  );
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
