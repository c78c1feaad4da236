import { Button, Flex, NativeSelect, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import { memo, useDeferredValue } from "react";
import { api, type PipelineDocument, type Tile, take } from "../api/client";
import { askDifferences, askPipelines, askRevisions } from "../api/queries";
import type { TileFeed } from "../picture/tile-feed";
import { useDraft } from "../state/draft";
import { type Against, useView } from "../state/view";
import { sayChange, toldApart } from "../words/figures";
import { sayName } from "../words/steps";

/** A pipeline in which one step alone happens, the others off; the pipeline itself stays as it is. */
export function soloOf(document: PipelineDocument, solo: string | null): PipelineDocument {
  if (solo === null || !document.steps.some((step) => step.id === solo)) return document;
  return { ...document, steps: document.steps.map((step) => ({ ...step, enabled: step.id === solo })) };
}

/** The tiles of what the sheet is held against. */
export interface AgainstTiles {
  name: string;
  document: PipelineDocument;
  feed: TileFeed;
  tiles: Map<number, Tile[]>;
}

export function againstTiles(against: Against | null, feed: TileFeed, tiles: Map<number, Tile[]>): AgainstTiles | null {
  return against && { name: against.name, document: against.document, feed, tiles };
}

/** Hold the sheet against another pipeline, or an earlier revision of this one. */
export const ComparisonChoice = memo(function ComparisonChoice({ pipeline }: { pipeline: number | null }) {
  const against = useView((view) => view.against);
  const pipelines = useQuery(askPipelines);
  const revisions = useQuery(askRevisions(pipeline));
  const names = toldApart(pipelines.data ?? []);
  const choose = async (value: string) => {
    const [kind, id] = value.split(":");
    if (kind === "revision") {
      const found = revisions.data?.find((revision) => revision.id === Number(id));
      if (found) hold(`revision ${found.number}${found.name ? `, ${found.name}` : ""}`, found.document);
    } else if (kind === "pipeline") {
      const found = await take(api.GET("/api/pipelines/{id}", { params: { path: { id: Number(id) } } }));
      hold(String(found.document.name), found.document);
    } else useView.setState({ against: null });
  };
  return (
    <NativeSelect.Root size="xs" width="130px" flex="none">
      <NativeSelect.Field
        aria-label="Compare the sheet with"
        value={against ? "kept" : ""}
        onFocus={() => void revisions.refetch()}
        onChange={(event) => void choose(event.target.value)}
      >
        <option value="">{against ? "stop comparing" : "compare with …"}</option>
        {against && <option value="kept">compared with {against.name}</option>}
        <optgroup label="earlier revisions">
          {revisions.data?.slice(1).map((revision) => (
            <option key={revision.id} value={`revision:${revision.id}`}>
              {revision.number} {revision.name || revision.changes.map((change) => sayChange(change)).join(", ")}
            </option>
          ))}
        </optgroup>
        <optgroup label="other pipelines">
          {pipelines.data
            ?.filter((each) => each.id !== pipeline)
            .map((each) => (
              <option key={each.id} value={`pipeline:${each.id}`}>
                {names.get(each.id)}
              </option>
            ))}
        </optgroup>
      </NativeSelect.Field>
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
});

function hold(name: string, document: unknown): void {
  useView.setState({ against: { name, document: document as PipelineDocument } });
}

/** What differs between the bench's pipeline (above in each row) and the other (below). */
export function ComparisonLine({ against }: { against: AgainstTiles }) {
  const document = useDeferredValue(useDraft((draft) => draft.document)) ?? against.document;
  const found = useQuery(askDifferences(against.document, document));
  return (
    <Flex
      as="section"
      aria-label="What differs"
      align="flex-start"
      gap={4}
      px={4}
      py={1.5}
      fontSize="small"
      borderTopWidth="1px"
      borderBottomWidth="1px"
      maxHeight="92px"
      overflowY="auto"
    >
      <Text flex="none" fontWeight={600}>
        below: {against.name}
      </Text>
      <Flex gap={4} wrap="wrap" flex="1">
        {found.data?.length === 0 && <Text color="fg.muted">Nothing differs.</Text>}
        {found.data?.map((change) => (
          <Text key={`${change.kind}-${change.step}`} color="fg.muted">
            <Text as="span" color="fg">
              {change.kind === "moved" ? "order" : sayName(change.name)} {["added", "removed"].includes(change.kind) ? change.kind : ""}
            </Text>{" "}
            {change.kind === "added" ? "" : change.lines.join(", ")}
          </Text>
        ))}
      </Flex>
      <Button
        size="2xs"
        variant="ghost"
        colorPalette="gray"
        aria-label="Stop comparing"
        onClick={() => useView.setState({ against: null })}
      >
        <X size={13} />
      </Button>
    </Flex>
  );
}
