import { Box, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { LabelObject } from "../api/client";
import { Overlay } from "../picture/Overlay";
import { counted } from "../words/figures";
import type { Recognised } from "./imports";

const LAYERS = { boxes: true, names: true, polygons: true, masks: true, keypoints: true };
export const EXAMPLE_WIDTH = 400;

/** What spoke for the format, how columns are read, and whatever else is to be known before it comes in. */
export function Why({ found }: { found: Recognised }) {
  const columns = Object.entries(found.columns ?? {}).map(([meaning, column]) => `${column} as ${meaning}`);
  return (
    <Box fontSize="small" color="fg.muted" aria-label="Told by">
      {(found.why ?? []).length > 0 && (
        <Text truncate title={found.why?.join("\n")}>
          recognised from {found.why?.slice(0, 3).join(", ")}
        </Text>
      )}
      {columns.length > 0 && <Text>columns: {columns.join(", ")}</Text>}
      {found.remarks
        ?.filter((each) => !each.startsWith("columns"))
        .slice(0, 6)
        .map((each) => (
          <Text key={each}>{each}</Text>
        ))}
    </Box>
  );
}

/** Everything that can't be used, each with its file; the rest can come in. */
export function Problems({ found }: { found: Recognised }) {
  return (
    <Box mt={2} borderLeftWidth="3px" borderColor="loss" pl={3}>
      <Text fontWeight={600}>
        {counted(found.problem_count, "label or file", "labels or files")} can't be used; the rest can be imported:
      </Text>
      <Box as="ul" listStyleType="none" fontSize="small" maxHeight="128px" overflowY="auto" aria-label="What can't be used">
        {found.problems.map((each, place) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: the same words may come twice
          <Text as="li" key={place} overflowWrap="anywhere">
            {each}
          </Text>
        ))}
      </Box>
    </Box>
  );
}

/** One picture with the labels as they were read. */
export function Example({ id, found }: { id: number; found: Recognised }) {
  const [lit, setLit] = useState<string | null>(null);
  if (!found.example) return <Text color="fg.muted">No picture can be shown before there is a rule for its pixel values.</Text>;
  const { width, height, objects, key } = found.example;
  return (
    <Box as="figure" aria-label={`Example, ${key}`} position="relative" bg="bg.sunken" style={{ aspectRatio: `${width} / ${height}` }}>
      <img
        src={`/api/imports/${id}/example.jpg?${found.format}${found.levels}`}
        alt=""
        style={{ width: "100%", height: "100%", display: "block" }}
      />
      <Overlay
        width={width}
        height={height}
        zoom={EXAMPLE_WIDTH / width}
        objects={objects as LabelObject[]}
        classes={found.classes.map((each) => each.name)}
        lines={[]}
        layers={LAYERS}
        lit={lit}
        onPoint={setLit}
      />
    </Box>
  );
}
