import { Button, Flex, IconButton, NativeSelect, Text } from "@chakra-ui/react";
import { Redo2, Shuffle, Undo2 } from "lucide-react";
import { memo, useState } from "react";
import { useStore } from "zustand";
import type { Dataset } from "../api/client";
import { NumberField, TextInPlace } from "../shell/fields";
import { NARROW, NewPipeline } from "../shell/NewPipeline";
import { redo, undo, useDraft } from "../state/draft";
import { may } from "../state/session";
import { toldApart } from "../words/figures";
import type { Saving } from "./saving";
import { reshuffle } from "./saving";

interface Props {
  datasets: Dataset[];
  dataset: Dataset;
  choose: (id: number) => void;
  /** The pipeline's. */
  name: string;
  seed: number;
  saving: Saving;
}

/** The bench's line in the header: what is on it, the seed, undo and redo. */
export const BenchTools = memo(function BenchTools({ datasets, dataset, choose, name, seed, saving }: Props) {
  const past = useStore(useDraft.temporal, ({ pastStates }) => pastStates.length > 0);
  const future = useStore(useDraft.temporal, ({ futureStates }) => futureStates.length > 0);
  return (
    <Flex align="center" gap={3} width="100%" minWidth={0} fontSize="body">
      <DatasetChoice datasets={datasets} dataset={dataset} choose={choose} />
      <Flex align="baseline" minWidth={0}>
        <PipelineName name={name} />
        <Text as="span" color="fg.muted" ml={1.5} truncate flex="0 20 auto" data-testid="revision">
          · revision {saving.revision ?? "…"} {saving.state}
        </Text>
      </Flex>
      <NewPipeline label="New" shrinks opened={() => void saving.open()} />
      {saving.conflict && (
        <Flex align="center" gap={2} color="loss" minWidth={0}>
          <Text truncate title={saving.conflict}>
            changed elsewhere
          </Text>
          <Button colorPalette="gray" size="xs" variant="outline" onClick={saving.takeTheirs}>
            Use theirs
          </Button>
          <Button colorPalette="gray" size="xs" variant="outline" onClick={saving.keepMine}>
            Keep mine
          </Button>
        </Flex>
      )}
      <SeedAndHistory seed={seed} past={past} future={future} />
    </Flex>
  );
});

/** The pipeline's name; a click makes it a field. */
function PipelineName({ name }: { name: string }) {
  const [open, setOpen] = useState(false);
  const settle = (wanted: string | null) => {
    if (wanted && wanted !== name) useDraft.getState().change((current) => ({ ...current, name: wanted }));
    setOpen(false);
  };
  if (!open)
    return (
      <Text
        as="button"
        truncate
        flex="0 1 auto"
        fontWeight={600}
        cursor={may.edit ? "text" : "default"}
        title={may.edit ? "Rename this pipeline" : undefined}
        onClick={() => may.edit && setOpen(true)}
      >
        {name}
      </Text>
    );
  return <TextInPlace label="Name of the pipeline" begin={name} width="200px" maxLength={120} settle={settle} />;
}

interface HistoryProps {
  seed: number;
  /** There is something to undo, to redo. */
  past: boolean;
  future: boolean;
}

const SeedAndHistory = memo(function SeedAndHistory({ seed, past, future }: HistoryProps) {
  return (
    <Flex ml="auto" align="center" gap={1} flex="none">
      <Text hideBelow={NARROW} color="fg.muted">
        seed
      </Text>
      <NumberField
        label="Seed"
        value={seed}
        low={0}
        high={Number.MAX_SAFE_INTEGER}
        whole
        width="76px"
        change={(value) => value !== null && useDraft.getState().change((current) => ({ ...current, seed: value }))}
      />
      <IconButton
        colorPalette="gray"
        size="xs"
        variant="ghost"
        aria-label="Reshuffle"
        title="Reshuffle: a new seed (R)"
        onClick={reshuffle}
      >
        <Shuffle size={15} />
      </IconButton>
      <IconButton colorPalette="gray" size="xs" variant="ghost" aria-label="Undo" title="Undo (Ctrl+Z)" disabled={!past} onClick={undo}>
        <Undo2 size={15} />
      </IconButton>
      <IconButton
        colorPalette="gray"
        size="xs"
        variant="ghost"
        aria-label="Redo"
        title="Redo (Ctrl+Shift+Z)"
        disabled={!future}
        onClick={redo}
      >
        <Redo2 size={15} />
      </IconButton>
    </Flex>
  );
});

const DatasetChoice = memo(function DatasetChoice({ datasets, dataset, choose }: Omit<Props, "name" | "seed" | "saving">) {
  const names = toldApart(datasets);
  return (
    <NativeSelect.Root size="xs" width="clamp(110px, 14vw, 180px)" flex="none">
      <NativeSelect.Field aria-label="Dataset" value={dataset.id} onChange={(event) => choose(Number(event.target.value))}>
        {datasets.map((row) => (
          <option key={row.id} value={row.id}>
            {names.get(row.id)}
          </option>
        ))}
      </NativeSelect.Field>
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
});
