import { Box, Button, Checkbox, Flex, NativeSelect, Table, Text } from "@chakra-ui/react";
import { useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
import { Link } from "react-router";
import { api, type Dataset, type PipelineDocument, type Schemas, type Score, take } from "../api/client";
import {
  askDatasets,
  askEstimate,
  askInquiries,
  askPipeline,
  askPipelines,
  askScores,
  askTrials,
  type Order,
  refresh,
} from "../api/queries";
import { WishControl } from "../shell/fields";
import { Heading } from "../shell/NarrowPanel";
import { ErrorBox, ListState, Nothing, PageLink } from "../shell/PageState";
import { ViewTools } from "../shell/views";
import { may } from "../state/session";
import { orderOf, USUAL_FILES, useView } from "../state/view";
import { counted, sayBytes, saySeconds, withTheirNames } from "../words/figures";
import type { CurvePoint } from "./Curves";

const Curves = lazy(() => import("./Curves"));

type Cell = Schemas["Cell"];

const UNDER_WAY = ["waiting", "writing"];

/** Pipelines down, datasets across: what is made, what is missing, and which pipeline helps where. */
export function Trials() {
  const client = useQueryClient();
  const order = useView((view) => view.edition);
  const cells = useQuery({
    ...askTrials,
    refetchInterval: ({ state }) => (state.data?.some((cell) => UNDER_WAY.includes(cell.state)) ? 700 : false),
    refetchOnMount: "always",
  });
  const datasets = useQuery(askDatasets);
  const pipelines = useQuery(askPipelines);
  const [on, setOn] = useState<string[]>([]);
  const [metric, setMetric] = useState("");
  const [losing, setLosing] = useState(false);
  const start = useMutation({
    mutationFn: (wish: { datasets: number[]; pipelines: number[] }) =>
      take(
        api.POST("/api/trials", {
          body: { ...wish, ...orderOf(order), ...USUAL_FILES, accept_loss: losing ? ["all"] : [], splits: [], split_variants: {} },
        }),
      ),
    onSuccess: () => refresh(client, "trials"),
  });
  const unready = [cells, datasets, pipelines].find((each) => each.data === undefined);
  const across = withTheirNames(datasets.data ?? []);
  const down = withTheirNames(pipelines.data ?? []);
  const cellOf = (pipeline: number, dataset: number) => cells.data?.find((cell) => cell.pipeline === pipeline && cell.dataset === dataset);
  const metrics = [...new Set(cells.data?.flatMap((cell) => cell.scores.map(nameOf)) ?? [])].sort();
  // What was measured on images that were not trained on says more.
  const shown = metrics.includes(metric) ? metric : (metrics.find((each) => /validation|test/.test(each)) ?? metrics[0] ?? "");
  const chosen = {
    datasets: across.filter((each) => on.includes(`d${each.id}`)),
    pipelines: down.filter((each) => on.includes(`p${each.id}`)),
  };
  const missing = chosen.pipelines.flatMap((pipeline) =>
    chosen.datasets.flatMap((dataset) => (cellOf(pipeline.id, dataset.id)?.edition ? [] : [{ pipeline, dataset }])),
  );
  const toggle = (key: string) => setOn(on.includes(key) ? on.filter((each) => each !== key) : [...on, key]);
  if (datasets.data && pipelines.data && !(across.length && down.length)) return <NoTrials />;
  return (
    <Box height="100%" overflowY="auto" px={6} py={5}>
      <ViewTools>
        <Text color="fg.muted" truncate>
          pipelines × datasets: an edition of each, and its scores
        </Text>
      </ViewTools>
      {start.error && <ErrorBox error={start.error} />}
      <ListState asked={unready ?? cells} what="the trials" />
      {start.error?.message.includes("can't hold") && (
        <Box mt={2}>
          <Tick name="make them without what their formats can't hold" on={losing} toggle={() => setLosing(!losing)} />
        </Box>
      )}
      <Flex align="center" gap={3} my={4} wrap="wrap">
        <Text>training images:</Text>
        <WishControl />
        <Button
          size="sm"
          colorPalette="amber"
          disabled={!missing.length || !may.edit}
          loading={start.isPending}
          onClick={() =>
            start.mutate({ datasets: chosen.datasets.map((each) => each.id), pipelines: chosen.pipelines.map((each) => each.id) })
          }
        >
          {missing.length ? `Make ${counted(missing.length, "edition")}` : "Make editions"}
        </Button>
        {missing.length > 0 ? (
          <WhatItTakes pairs={missing} order={{ ...orderOf(order), ...USUAL_FILES, splits: [], split_variants: {} }} />
        ) : (
          <Text color="fg.muted">
            {chosen.pipelines.length && chosen.datasets.length
              ? "These are all made."
              : "Tick pipelines and datasets: an edition of each pair is made, and they are held against each other by their scores."}
          </Text>
        )}
        {metrics.length > 0 && (
          <Flex align="center" gap={2} ml="auto">
            <Text color="fg.muted">score</Text>
            <NativeSelect.Root size="xs" width="200px">
              <NativeSelect.Field aria-label="Score" value={shown} onChange={(event) => setMetric(event.target.value)}>
                {metrics.map((name) => (
                  <option key={name}>{name}</option>
                ))}
              </NativeSelect.Field>
              <NativeSelect.Indicator />
            </NativeSelect.Root>
          </Flex>
        )}
      </Flex>
      <Box overflowX="auto">
        <Table.Root size="sm" aria-label="Trials" width="auto" css={{ "& td, & th": { fontSize: "body", verticalAlign: "top" } }}>
          <Table.Header>
            <Table.Row bg="transparent">
              <Table.ColumnHeader pl={0} minWidth="150px">
                pipeline
              </Table.ColumnHeader>
              {across.map((dataset) => (
                <Table.ColumnHeader key={dataset.id} minWidth="190px">
                  <Tick name={dataset.name} on={on.includes(`d${dataset.id}`)} toggle={() => toggle(`d${dataset.id}`)} />
                </Table.ColumnHeader>
              ))}
            </Table.Row>
          </Table.Header>
          <Table.Body>
            {down.map((pipeline) => (
              <Table.Row key={pipeline.id} bg="transparent">
                <Table.Cell pl={0} maxWidth="260px">
                  <Tick name={pipeline.name} on={on.includes(`p${pipeline.id}`)} toggle={() => toggle(`p${pipeline.id}`)} />
                  <Text color="fg.muted" fontSize="small" pl="26px">
                    revision {pipeline.latest}
                  </Text>
                </Table.Cell>
                {across.map((dataset) => (
                  <Table.Cell key={dataset.id}>
                    <CellView
                      cell={cellOf(pipeline.id, dataset.id)}
                      chosen={on.includes(`d${dataset.id}`) && on.includes(`p${pipeline.id}`)}
                      metric={shown}
                      best={bestOf(cells.data ?? [], dataset.id, shown)}
                    />
                  </Table.Cell>
                ))}
              </Table.Row>
            ))}
          </Table.Body>
        </Table.Root>
      </Box>
      <Probes />
      {shown && (
        <Box mt={6} maxWidth="900px">
          <Heading>{`${shown} over the epochs`}</Heading>
          <AllCurves
            cells={cells.data ?? []}
            metric={shown}
            name={(cell) => `${name(down, cell.pipeline)}, ${name(across, cell.dataset)}`}
          />
        </Box>
      )}
    </Box>
  );
}

interface Pair {
  pipeline: Schemas["Pipeline"];
  dataset: Dataset;
}

/** More pairs than this are not worked out one by one. */
const MOST_ESTIMATED = 12;

/** Images, space and time of the editions that would be made. */
function WhatItTakes({ pairs, order }: { pairs: Pair[]; order: Order }) {
  const asked = pairs.slice(0, MOST_ESTIMATED);
  const documents = useQueries({ queries: asked.map(({ pipeline }) => askPipeline(pipeline.id, pipeline.latest)) });
  const found = useQueries({
    queries: asked.map(({ dataset }, place) => {
      const document = documents[place]?.data?.document as PipelineDocument | undefined;
      return { ...askEstimate(dataset, document ?? ({} as PipelineDocument), order), enabled: document !== undefined };
    }),
  });
  const failed = found.find((each) => each.error);
  if (failed) return <ErrorBox error={failed.error} />;
  if (found.some((each) => !each.data)) return <Text color="fg.muted">working out what that takes…</Text>;
  const sum = (part: "total" | "bytes" | "seconds") => found.reduce((all, each) => all + (each.data?.[part] ?? 0), 0);
  return (
    <Text role="status">
      {pairs.length > asked.length && `the first ${asked.length}: `}
      {sum("total").toLocaleString("en")} images, about {sayBytes(sum("bytes"))}, about {saySeconds(sum("seconds"))}
    </Text>
  );
}

/** Without a dataset or without a pipeline there is nothing to try. */
function NoTrials() {
  return (
    <Box height="100%" overflowY="auto" px={6} py={5}>
      <Nothing title="Nothing to try yet">
        <Text>
          Here every pipeline meets every dataset: editions are made of each pair, trained on, and held against each other by their scores.
          It takes one of <PageLink to="/datasets">your datasets</PageLink> and one of <PageLink to="/pipelines">your pipelines</PageLink>.
        </Text>
      </Nothing>
    </Box>
  );
}

const short = (value: number) => Number(value.toPrecision(3));

const name = (list: { id: number; name: string }[], id: number) => list.find((each) => each.id === id)?.name ?? "";

const nameOf = (score: { name: string; split?: string }) => (score.split ? `${score.name}, ${score.split}` : score.name);

/** Losses and errors are better small, all else large. */
const smallIsGood = (metric: string) => /loss|error|mae|rmse/i.test(metric);

function bestOf(cells: Cell[], dataset: number, metric: string): number | null {
  const values = cells
    .filter((cell) => cell.dataset === dataset)
    .flatMap((cell) => cell.scores.filter((score) => nameOf(score) === metric).map((score) => score.value));
  if (values.length < 2) return null;
  return smallIsGood(metric) ? Math.min(...values) : Math.max(...values);
}

function Tick({ name, on, toggle }: { name: string; on: boolean; toggle: () => void }) {
  return (
    <Checkbox.Root size="sm" checked={on} onCheckedChange={toggle}>
      <Checkbox.HiddenInput />
      <Checkbox.Control />
      <Checkbox.Label fontWeight={600}>{name}</Checkbox.Label>
    </Checkbox.Root>
  );
}

interface CellProps {
  cell: Cell | undefined;
  chosen: boolean;
  metric: string;
  best: number | null;
}

function CellView({ cell, chosen, metric, best }: CellProps) {
  if (!cell?.edition) return <Text color={chosen ? "amber.fg" : "fg.muted"}>{chosen ? "will be made" : "–"}</Text>;
  const score = cell.scores.find((each) => nameOf(each) === metric);
  return (
    <Box>
      {cell.state === "done" ? (
        <Link to={`/editions/${cell.edition}`}>
          <Text as="span" textDecoration="underline" textUnderlineOffset="3px">
            edition {cell.edition}
          </Text>
          <Text as="span" color="fg.muted">
            , {cell.total} images
          </Text>
        </Link>
      ) : (
        <Text color={cell.state === "stopped" ? "loss" : undefined} title={cell.message}>
          {cell.state === "writing" ? `${cell.done} of ${cell.total} images` : cell.state}
          {cell.state === "stopped" && (
            <>
              {" "}
              <Link to={`/editions/${cell.edition}`}>why</Link>
            </>
          )}
        </Text>
      )}
      {score && (
        <>
          <Text fontWeight={best === score.value ? 650 : 400} color={best === score.value ? "amber.fg" : undefined} fontSize="heading">
            {Number(score.value.toPrecision(4))}
            {score.n > 1 && (
              <Text as="span" color="fg.muted" fontSize="body" fontWeight={400} title={`95 % interval of the mean over ${score.n} runs`}>
                {" "}
                ({short(score.low)} – {short(score.high)}, {score.n} runs)
              </Text>
            )}
            {best === score.value ? " best here" : ""}
          </Text>
          {score.verdict && score.difference !== null && (
            <Text fontSize="small" color={score.verdict === "hurts" ? "loss" : "fg.muted"}>
              {score.difference > 0 ? "+" : ""}
              {short(score.difference)}
              {score.difference_low !== score.difference_high &&
                ` (${short(score.difference_low ?? 0)} … ${short(score.difference_high ?? 0)})`}
              : {score.verdict}
            </Text>
          )}
        </>
      )}
    </Box>
  );
}

/** Quick experiments made from the bench, the newest first. */
function Probes() {
  const found = useQuery({ ...askInquiries("probe"), refetchOnMount: "always" });
  if (!found.data?.length) return null;
  return (
    <Box mt={6}>
      <Heading>probes: small networks trained with a pipeline and with none</Heading>
      {found.data.map((each) => (
        <Text key={each.id} py="1px">
          <Link to={`/probes/${each.id}`}>
            <Text as="span" textDecoration="underline" textUnderlineOffset="3px">
              {each.names.join(", ")}
            </Text>
          </Link>{" "}
          on {each.dataset_name}
          <Text as="span" color="fg.muted">
            , {each.created.slice(0, 16).replace("T", " ")}
            {each.state !== "done" && `, ${each.state}`}
          </Text>
        </Text>
      ))}
    </Box>
  );
}

/** For each epoch the mean over runs, and from the least to the largest of them. */
function overRuns(scores: Score[]): CurvePoint[] {
  const epochs = new Map<number, number[]>();
  for (const score of scores) epochs.set(score.epoch ?? 0, [...(epochs.get(score.epoch ?? 0) ?? []), score.value]);
  return [...epochs].map(([epoch, values]) => ({
    epoch,
    value: values.reduce((sum, value) => sum + value, 0) / values.length,
    band: [Math.min(...values), Math.max(...values)],
  }));
}

function AllCurves({ cells, metric, name }: { cells: Cell[]; metric: string; name: (cell: Cell) => string }) {
  const scored = cells.filter((cell) => cell.edition && cell.scores.some((score) => nameOf(score) === metric));
  const found = useQueries({
    queries: scored.map((cell) => askScores(cell.edition ?? 0)),
  });
  const series = scored.map((cell, place) => ({
    name: name(cell),
    points: overRuns(((found[place]?.data ?? []) as Score[]).filter((score) => nameOf(score) === metric && score.epoch !== null)),
  }));
  if (!series.some((each) => each.points.length > 1))
    return <Text color="fg.muted">No score of this name was taken over several epochs.</Text>;
  return (
    <Suspense fallback={<Box height="260px" />}>
      <Curves series={series} />
    </Suspense>
  );
}
