import { Box, Button, Flex, Text } from "@chakra-ui/react";
import { Copy } from "lucide-react";
import type { LabelObject, Trace } from "../api/client";
import { sayName } from "../words/steps";
import { objectName } from "./outlines";

/** What a part of a trace is headed by. */
export function TraceTitle({ children }: { children: string }) {
  return (
    <Text as="h3" fontSize="small" color="fg.muted" mt={4} mb={1} _first={{ mt: 0 }}>
      {children}
    </Text>
  );
}

/** The values drawn for a step, in words. */
function sayDrawn(drawn: Record<string, unknown>): string {
  const said = (value: unknown): string =>
    typeof value === "number"
      ? `${Number(value.toFixed(3))}`
      : Array.isArray(value)
        ? `[${value.slice(0, 6).map(said).join(", ")}${value.length > 6 ? ", …" : ""}]`
        : typeof value === "object" && value
          ? sayParts(value)
          : String(value);
  const parts = Object.entries(drawn).map(([name, value]) => `${sayName(name)} ${said(value)}`);
  return parts.join(", ") || "happened";
}

/** The first parts of something drawn as a whole, such as a tile of a mosaic: its image and what was drawn for it. */
function sayParts(value: object): string {
  const short = (part: unknown) => (typeof part === "number" ? Number(part.toFixed(2)) : String(part).split("/").at(-1));
  return Object.entries(value)
    .filter(([, part]) => typeof part !== "object")
    .slice(0, 2)
    .map(([name, part]) => (name === "image" ? short(part) : `${sayName(name)} ${short(part)}`))
    .join(" ");
}

/** What was drawn at each step. */
export function DrawnSteps({ trace, name }: { trace: Trace; name: (id: string) => string }) {
  return trace.steps.map((step) => (
    <Flex key={step.id} gap={3} py="2px" opacity={step.fired ? 1 : 0.8}>
      <Text width="92px" flex="none" truncate>
        {name(step.id)}
      </Text>
      <Text color="fg.muted" overflowWrap="anywhere" minWidth={0}>
        {step.fired ? sayDrawn(step.drawn) : "skipped"}
      </Text>
    </Flex>
  ));
}

type ObjectOutcome = Trace["objects"]["dropped"][number];

interface ObjectOutcomesProps {
  trace: Trace;
  name: (id: string) => string;
  /** Those whose classes are known: of the picture before and after. */
  objects: readonly LabelObject[];
}

/** What became of the objects, and which step is to blame. */
export function ObjectOutcomes({ trace, name, objects }: ObjectOutcomesProps) {
  const classes = new Map(objects.map((object) => [objectName(object), object.class]));
  const say = (lost: ObjectOutcome) => `${classes.get(objectName(lost)) ?? "object"} ${lost.id}`;
  const { kept, clipped, dropped, clipped_by } = trace.objects;
  return (
    <>
      <Text>
        {kept} whole, {clipped} clipped, {dropped.length} lost; {(trace.blank_share * 100).toFixed(1)} % blank
      </Text>
      {dropped.map((lost) => (
        <Text key={`${lost.image}-${lost.id}`} color="loss">
          {say(lost)}: {lost.reason}, by {name(lost.step)}
        </Text>
      ))}
      {clipped_by.map((lost) => (
        <Text key={`${lost.image}-${lost.id}`} color="fg.muted">
          {say(lost)}: {(lost.share * 100).toFixed(0)} % left, by {name(lost.step)}
        </Text>
      ))}
    </>
  );
}

/** A line for a terminal, to be copied. */
export function Command({ text, children }: { text: string; children?: React.ReactNode }) {
  return (
    <>
      <Box bg="bg.sunken" px={2} py={1.5} fontFamily="mono" fontSize="caption" overflowWrap="anywhere" data-testid="command">
        {text}
      </Box>
      <Box display="flex" gap={2} mt={2}>
        <Button size="2xs" variant="outline" onClick={() => void navigator.clipboard?.writeText(text)}>
          <Copy size={12} /> Copy
        </Button>
        {children}
      </Box>
    </>
  );
}

/** A word for a shell. */
export const quoted = (text: string) => (/^[\w./-]+$/.test(text) ? text : `'${text.replaceAll("'", "'\\''")}'`);
