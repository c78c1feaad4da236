import { Box, Button, Flex, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { FileDown, FileUp, History } from "lucide-react";
import { Fragment, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { api, type Dataset, type ImageRow, type PipelineDocument, Refusal, type Schemas, take } from "../api/client";
import { askDatasets, askPipeline, askPipelines, askRevisions, askRows, askSheetRow, openNext, refresh } from "../api/queries";
import { VariantTile } from "../picture/TileView";
import { pictureWidth } from "../picture/widths";
import { NewPipeline } from "../shell/NewPipeline";
import { Finder, holds, Note } from "../shell/Note";
import { ErrorBox, ListState, Nothing } from "../shell/PageState";
import { saveFile } from "../shell/pipeline-file";
import { useSeen } from "../shell/use-browser";
import { May, ViewTools } from "../shell/views";
import { byWhom } from "../state/session";
import { counted, sayChange } from "../words/figures";
import { sayName } from "../words/steps";

export type RevisionLine = Schemas["RevisionLine"];

/** Changes that followed one another without a longer pause: the newest revision, and those it grew out of. */
export interface Session {
  last: RevisionLine;
  before: RevisionLine[];
}

const PAUSE_MS = 10 * 60_000;

/** Every change is saved by itself; those of one sitting belong together, but for named ones and the very first. Newest first. */
export function sessionsOf(revisions: readonly RevisionLine[]): Session[] {
  const found: Session[] = [];
  for (const revision of revisions) {
    const sitting = found.at(-1);
    const next = sitting?.before.at(-1) ?? sitting?.last;
    const soon = next && Date.parse(next.created) - Date.parse(revision.created) <= PAUSE_MS;
    if (sitting && soon && !revision.name && revision.number > 1) sitting.before.push(revision);
    else found.push({ last: revision, before: [] });
  }
  return found;
}

const TILE = 150;
/** As many as there is room for on a usual screen. */
const VARIANTS = 6;

type Pipeline = Schemas["Pipeline"];

/** Every pipeline with a few of its pictures; open, copy, rename, take in and out as files, and look back. */
export function Pipelines() {
  const client = useQueryClient();
  const chooser = useRef<HTMLInputElement>(null);
  const navigate = useNavigate();
  const pipelines = useQuery(askPipelines);
  const datasets = useQuery(askDatasets);
  const dataset = datasets.data?.[0];
  const rows = useQuery({
    ...askRows(dataset ?? { id: 0, digest: "" }, { pick: "most", count: 1 }),
    enabled: dataset !== undefined,
  });
  const [words, setWords] = useState("");
  const shown = pipelines.data?.filter((pipeline) => holds(words, pipeline.name, pipeline.note ?? ""));
  const read = useMutation({
    mutationFn: async (file: File) => {
      let document: PipelineDocument;
      try {
        document = JSON.parse(await file.text());
      } catch (error) {
        throw new Refusal(`${file.name}: not JSON (${error instanceof Error ? error.message : error})`, [], 422);
      }
      return take(api.POST("/api/pipelines", { body: { document: { ...document } } }));
    },
    onSuccess: () => refresh(client, "pipelines"),
  });
  return (
    <Box height="100%" overflowY="auto" px={6} py={5}>
      <ViewTools>
        <Text color="fg.muted">{pipelines.data ? counted(pipelines.data.length, "pipeline") : ""}</Text>
        <Flex ml="auto" align="center" mr={2} gap={2}>
          <Finder words={words} setWords={setWords} what="a pipeline" />
          <May to="edit">
            <NewPipeline opened={() => void navigate("/")} />
            <Button size="xs" variant="outline" onClick={() => chooser.current?.click()}>
              <FileUp size={13} /> Open a file
            </Button>
          </May>
        </Flex>
      </ViewTools>
      <input
        ref={chooser}
        type="file"
        accept=".json"
        hidden
        aria-label="Pipeline file"
        onChange={(event) => {
          const file = event.target.files?.[0];
          if (file) read.mutate(file);
          event.target.value = "";
        }}
      />
      {read.error && <ErrorBox error={read.error} />}
      <ListState asked={pipelines} what="the pipelines" />
      {pipelines.data?.length === 0 && (
        <Nothing title="No pipeline yet">
          <Text mb={3}>Begin with an empty one or with a starting point for your task, or open a file that somebody gave you.</Text>
          <NewPipeline opened={() => void navigate("/")} />
        </Nothing>
      )}
      {shown?.length === 0 && pipelines.data?.length !== 0 && (
        <Text color="fg.muted">No pipeline has these words in its name or note.</Text>
      )}
      {shown?.map((pipeline) => (
        <Item key={pipeline.id} pipeline={pipeline} dataset={dataset} image={rows.data?.[0]} alone={pipelines.data?.length === 1} />
      ))}
    </Box>
  );
}

function Item({
  pipeline,
  dataset,
  image,
  alone,
}: {
  pipeline: Pipeline;
  dataset: Dataset | undefined;
  image: ImageRow | undefined;
  alone: boolean;
}) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [name, setName] = useState<string | null>(null);
  const [back, setBack] = useState(false);
  const { place, met } = useSeen();
  const path = { params: { path: { id: pipeline.id } } };
  const latest = useQuery(askPipeline(pipeline.id, pipeline.latest));
  const document = latest.data?.document as PipelineDocument | undefined;
  const changed = () => {
    setName(null);
    return refresh(client, "pipelines");
  };
  const copy = useMutation({
    mutationFn: () => take(api.POST("/api/pipelines", { body: { document: { ...document, name: `${pipeline.name}, copy` } } })),
    onSuccess: changed,
  });
  const rename = useMutation({
    mutationFn: (wanted: string) =>
      take(api.POST("/api/pipelines/{id}", { ...path, body: { document: { ...document, name: wanted }, base: latest.data?.number ?? 0 } })),
    onSuccess: changed,
  });
  const remove = useMutation({
    mutationFn: async () => {
      const { response } = await api.DELETE("/api/pipelines/{id}", path);
      if (!response.ok) throw new Refusal("The pipeline could not be deleted.", [], response.status);
    },
    onSuccess: changed,
  });
  const open = () => {
    openNext(pipeline.id);
    void navigate("/");
  };
  const error = latest.error ?? copy.error ?? rename.error ?? remove.error;
  return (
    <Box as="article" aria-label={pipeline.name} pb={5} mb={5} borderBottomWidth="1px">
      <Flex align="center" gap={2} mb={1}>
        {name === null ? (
          <Text as="h2" fontWeight={650} fontSize="heading" mr={2}>
            {pipeline.name}
          </Text>
        ) : (
          <Input
            size="xs"
            width="260px"
            autoFocus
            aria-label="New name"
            value={name}
            onChange={(event) => setName(event.target.value)}
            onKeyDown={(event) => {
              if (event.key === "Enter" && name.trim()) rename.mutate(name.trim());
              if (event.key === "Escape") setName(null);
            }}
          />
        )}
        <Text color="fg.muted" mr="auto">
          revision {pipeline.latest}
          {byWhom(pipeline.changed_by)}
        </Text>
        <Button size="xs" colorPalette="amber" onClick={open}>
          Open on the bench
        </Button>
        <May to="edit">
          <Button size="xs" variant="outline" onClick={() => setName(pipeline.name)}>
            Rename
          </Button>
          <Button size="xs" variant="outline" onClick={() => copy.mutate()} disabled={!document}>
            Copy
          </Button>
        </May>
        <Button size="xs" variant="outline" onClick={() => document && saveFile(document)} disabled={!document}>
          <FileDown size={13} /> Save as a file
        </Button>
        <Button size="xs" variant="outline" aria-expanded={back} onClick={() => setBack(!back)}>
          <History size={13} /> Revisions
        </Button>
        <May to="administer">
          <Button size="xs" variant="ghost" colorPalette="gray" onClick={() => remove.mutate()} disabled={alone}>
            Delete
          </Button>
        </May>
      </Flex>
      {error && <ErrorBox error={error} />}
      <Note
        of={pipeline.name}
        note={pipeline.note ?? ""}
        save={async (note) => {
          await take(api.PATCH("/api/pipelines/{id}", { ...path, body: { note } }));
          await refresh(client, "pipelines");
        }}
      />
      <Text color="fg.muted" mb={3}>
        {document?.steps
          .filter((step) => step.enabled)
          .map((step) => sayName(step.step))
          .join(" → ") || "no steps"}
      </Text>
      <Box ref={place} minHeight={`${TILE * 0.75}px`}>
        {met && document && dataset && image && <Strip dataset={dataset} image={image} document={document} />}
      </Box>
      {back && <Revisions pipeline={pipeline.id} />}
    </Box>
  );
}

function Strip({ dataset, image, document }: { dataset: Dataset; image: ImageRow; document: PipelineDocument }) {
  const sheet = useQuery(askSheetRow(dataset, document, image.id, VARIANTS, pictureWidth(TILE)));
  if (sheet.error) return <ErrorBox error={sheet.error} />;
  return (
    <Flex gap="10px" align="flex-start" overflow="hidden">
      {sheet.data?.tiles.map(
        (tile) =>
          tile.address && (
            <VariantTile
              key={tile.variant}
              tile={tile}
              row={image.id}
              label={`Variant ${tile.variant} with ${document.name}`}
              tileWidth={TILE}
              dataset={dataset}
            />
          ),
      )}
    </Flex>
  );
}

function Revisions({ pipeline }: { pipeline: number }) {
  const client = useQueryClient();
  const [naming, setNaming] = useState<{ id: number; name: string } | null>(null);
  const [open, setOpen] = useState<ReadonlySet<number>>(new Set());
  const found = useQuery(askRevisions(pipeline));
  const save = useMutation({
    mutationFn: ({ id, name }: { id: number; name: string }) =>
      take(api.PATCH("/api/revisions/{id}", { params: { path: { id } }, body: { name } })),
    onSuccess: () => {
      setNaming(null);
      return refresh(client, ["revisions", pipeline]);
    },
  });
  const line = (revision: RevisionLine, before: RevisionLine[]) => (
    <Flex as="li" key={revision.id} gap={3} py="3px" align="center" fontSize="body">
      <Text width="28px" textAlign="right" flex="none">
        {revision.number}
      </Text>
      <Text color="fg.muted" width="130px" flex="none">
        {new Date(revision.created).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" })}
      </Text>
      {revision.made_by && (
        <Text color="fg.muted" width="110px" flex="none" truncate title={revision.made_by}>
          {revision.made_by}
        </Text>
      )}
      <Text flex="1" truncate title={revision.changes.flatMap((change) => [sayChange(change), ...change.lines]).join("\n")}>
        {revision.name && (
          <Text as="span" fontWeight={600}>
            {revision.name}{" "}
          </Text>
        )}
        <Text as="span" color="fg.muted">
          {[...new Set([revision, ...before].flatMap(({ changes }) => changes.map((change) => sayChange(change))))].join(", ") || "first"}
        </Text>
      </Text>
      {before.length > 0 && (
        <Button
          size="2xs"
          variant="ghost"
          colorPalette="gray"
          aria-expanded={open.has(revision.id)}
          onClick={() => setOpen(new Set(open.has(revision.id) ? [...open].filter((id) => id !== revision.id) : [...open, revision.id]))}
        >
          {open.has(revision.id) ? "fold" : `and ${before.length} before`}
        </Button>
      )}
      {naming?.id === revision.id ? (
        <Input
          size="2xs"
          width="180px"
          autoFocus
          aria-label={`Name of revision ${revision.number}`}
          value={naming.name}
          onChange={(event) => setNaming({ id: revision.id, name: event.target.value })}
          onKeyDown={(event) => {
            if (event.key === "Enter") save.mutate(naming);
            if (event.key === "Escape") setNaming(null);
          }}
        />
      ) : (
        <May to="edit">
          <Button size="2xs" variant="ghost" colorPalette="gray" onClick={() => setNaming({ id: revision.id, name: revision.name })}>
            Name
          </Button>
        </May>
      )}
    </Flex>
  );
  return (
    <Box as="ol" aria-label="Revisions" listStyleType="none" mt={3} maxHeight="260px" overflowY="auto">
      {sessionsOf(found.data ?? []).map(({ last, before }) => (
        <Fragment key={last.id}>
          {line(last, before)}
          {open.has(last.id) && before.map((revision) => line(revision, []))}
        </Fragment>
      ))}
    </Box>
  );
}
