import { Box, Button, Flex, Table, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, take } from "../api/client";
import { askInquiry, refresh } from "../api/queries";
import { Heading } from "../shell/NarrowPanel";
import { ErrorBox, OneState } from "../shell/PageState";
import { May, ViewTools } from "../shell/views";
import { PLOT_TEXT } from "../theme";
import { counted, saySeconds } from "../words/figures";
import { InquiryProgress } from "./InquiryProgress";
import { ticks } from "./Ridges";
import type { Compared, ProbeResult, ProbeRow } from "./results";

const NONE = "none";
const WIDTH = 620;
const ROW = 52;
const AXIS = 30;
const LEFT = 8;

/** What a probe found: the answer in a sentence, then the intervals of all, of each condition and of each class. */
export function ProbeView({ found }: { found: ProbeResult }) {
  const metric = found.metric.replaceAll("_", " ");
  const others = found.results.filter((row) => row.pipeline !== NONE);
  const means = (name: string, row: ProbeRow) => row.per_class[name] ?? undefined;
  return (
    <Box maxWidth="1240px">
      {(found.headline ?? []).map((line) => (
        <Text key={line} data-testid="answer" fontSize="large" fontWeight={600}>
          {line}
        </Text>
      ))}
      <Heading>{`${metric} on the ${found.split} split: ${counted(found.seeds, "seed")}, ${found.steps} steps of training each, ${saySeconds(found.seconds)}`}</Heading>
      <Forest found={found} metric={metric} />
      <Flex gap={10} wrap={{ base: "wrap", lg: "nowrap" }} align="flex-start">
        <Intervals
          title="the same networks on the same pictures under other conditions"
          label="Robustness"
          rows={others}
          names={found.conditions}
          differences={found.robustness_difference}
          mean={(name, row) => found.robustness[row.pipeline]?.[name]}
          none={(name) => found.robustness[NONE]?.[name]}
        />
        <Intervals
          title={found.task === "keypoints" ? "keypoint by keypoint" : "class by class"}
          label="Classes"
          rows={others}
          names={found.columns}
          differences={found.class_difference ?? {}}
          mean={means}
          none={(name) => (found.results[0] ? means(name, found.results[0]) : undefined)}
        />
      </Flex>
      <Text mt={4} color="fg.muted" maxWidth="720px">
        {found.proxy} Intervals cover chance between seeds and between validation pictures.
      </Text>
      {found.notes.map((note) => (
        <Text key={note} color="fg.muted">
          Note: {note}.
        </Text>
      ))}
    </Box>
  );
}

/** One row a pipeline; runs as small ticks. Intervals are those of the difference to none, laid about the mean. */
function Forest({ found, metric }: { found: ProbeResult; metric: string }) {
  const [at, setAt] = useState<ProbeRow | null>(null);
  const base = found.results.find((row) => row.pipeline === NONE);
  if (!base) return null;
  const ends = (row: ProbeRow): [number, number] =>
    row.interval ? [base.mean + row.interval[0], base.mean + row.interval[1]] : [base.mean - base.spread, base.mean + base.spread];
  const all = found.results.flatMap((row) => [...ends(row), ...row.values]);
  const spare = (Math.max(...all) - Math.min(...all) || 0.1) * 0.08;
  const [from, to] = [Math.min(...all) - spare, Math.max(...all) + spare];
  const x = (value: number) => LEFT + ((value - from) / (to - from)) * (WIDTH - 2 * LEFT);
  const height = found.results.length * ROW;
  return (
    <Flex gap={4} align="flex-start">
      <Box flex="0 0 190px">
        {found.results.map((row) => (
          <Flex key={row.pipeline} height={`${ROW}px`} direction="column" justify="center">
            <Text fontWeight={600} truncate title={row.pipeline}>
              {row.pipeline === NONE ? "no augmentation" : row.pipeline}
            </Text>
            <Text fontSize="small" color="fg.muted">
              {row.mean.toFixed(3)} ± {row.spread.toFixed(3)}
            </Text>
          </Flex>
        ))}
      </Box>
      <svg
        viewBox={`0 0 ${WIDTH} ${height + AXIS}`}
        width={WIDTH}
        style={{ flex: "0 1 auto", minWidth: 0 }}
        role="img"
        aria-label={`${metric}: ${found.results.map((row) => `${row.pipeline} ${row.mean.toFixed(3)}`).join(", ")}`}
      >
        <rect
          x={x(base.mean - base.spread)}
          width={Math.max(1, x(base.mean + base.spread) - x(base.mean - base.spread))}
          height={height}
          fill="var(--chakra-colors-bg-emphasized)"
        />
        <line x1={x(base.mean)} x2={x(base.mean)} y2={height} stroke="var(--chakra-colors-fg-muted)" strokeDasharray="3 3" />
        {found.results.map((row, place) => {
          const y = place * ROW + ROW / 2;
          const [low, high] = ends(row);
          const color =
            row.verdict === "hurts"
              ? "var(--chakra-colors-loss)"
              : row.verdict === "helps"
                ? "var(--chakra-colors-amber-fg)"
                : "var(--chakra-colors-fg)";
          return (
            <g key={row.pipeline} stroke={color} fill={color} onPointerEnter={() => setAt(row)} onPointerLeave={() => setAt(null)}>
              <rect x={0} y={place * ROW} width={WIDTH} height={ROW} fill="transparent" stroke="none" />
              {row.pipeline !== NONE && <line x1={x(low)} x2={x(high)} y1={y} y2={y} strokeWidth={2} />}
              {row.values.map((value, run) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: runs have no other name, and never change places
                <line key={run} x1={x(value)} x2={x(value)} y1={y + 8} y2={y + 14} strokeWidth={1.2} opacity={0.7} />
              ))}
              <circle cx={x(row.mean)} cy={y} r={5} />
            </g>
          );
        })}
        <g transform={`translate(0 ${height})`} fontSize={PLOT_TEXT} fill="var(--chakra-colors-fg-muted)">
          <line x1={0} x2={WIDTH} y1={0.5} y2={0.5} stroke="var(--chakra-colors-fg-muted)" />
          {ticks(from, to, 5, [1, 2, 5, 10]).map((mark) => (
            <g key={mark} transform={`translate(${x(mark)} 0)`}>
              <line y2={4} stroke="var(--chakra-colors-fg-muted)" />
              <text y={18} textAnchor="middle">
                {mark}
              </text>
            </g>
          ))}
          <text x={WIDTH} y={-4} textAnchor="end">
            {at ? `${at.pipeline}: ${at.values.map((value) => value.toFixed(3)).join(", ")}` : ""}
          </text>
        </g>
      </svg>
      <Box flex="1 1 0" minWidth="200px">
        {found.results.map((row) => (
          <Flex key={row.pipeline} height={`${ROW}px`} direction="column" justify="center" data-verdict={row.pipeline}>
            {row.verdict ? (
              <>
                <Text
                  fontWeight={600}
                  lineHeight={1.3}
                  color={row.verdict === "hurts" ? "loss" : row.verdict === "helps" ? "amber.fg" : undefined}
                >
                  {row.verdict}
                </Text>
                <Text color="fg.muted" fontSize="small" lineHeight={1.3} truncate>
                  {signed(row.difference ?? 0)} ({signed(row.interval?.[0] ?? 0)} … {signed(row.interval?.[1] ?? 0)})
                </Text>
                {row.to_tell && (
                  <Text fontSize="caption" color="fg.muted" lineHeight={1.3} truncate title={row.to_tell}>
                    what would tell: {row.to_tell}
                  </Text>
                )}
              </>
            ) : (
              <Text color="fg.muted">the baseline</Text>
            )}
          </Flex>
        ))}
      </Box>
    </Flex>
  );
}

const signed = (value: number) => `${value < 0 ? "−" : "+"}${Math.abs(value).toFixed(3)}`;

interface IntervalsProps {
  title: string;
  label: string;
  rows: ProbeRow[];
  /** Conditions or classes, from top to bottom. */
  names: string[];
  differences: Record<string, Record<string, Compared>>;
  mean: (name: string, row: ProbeRow) => number | undefined;
  none: (name: string) => number | undefined;
}

const SPAN = 260;
const LINE = 24;

/** For each condition or class and each pipeline: the difference to none with its interval, all on one axis. */
function Intervals({ title, label, rows, names, differences, mean, none }: IntervalsProps) {
  const all = rows.flatMap((row) => names.flatMap((name) => differences[row.pipeline]?.[name]?.interval ?? []));
  const reach = Math.max(0.02, ...all.map(Math.abs)) * 1.05;
  const x = (value: number) => ((value + reach) / (2 * reach)) * SPAN;
  const marks = ticks(-reach, reach, 6, [1, 2, 5, 10]).filter((mark) => x(mark) > 14 && x(mark) < SPAN - 14);
  return (
    <Box flex="1 1 0" minWidth="480px">
      <Heading>{title}</Heading>
      <Table.Root size="sm" width="auto" aria-label={label} css={{ "& td, & th": { fontSize: "body", py: 0, pl: 0, border: 0 } }}>
        <Table.Body>
          {names.flatMap((name) =>
            rows.map((row, place) => {
              const told = differences[row.pipeline]?.[name];
              const clear = told !== undefined && told.verdict !== "no difference shown";
              const color = !clear ? "fg" : told.verdict === "helps" ? "amber.fg" : "loss";
              const scores = `${say(mean(name, row))} against ${say(none(name))} without augmentation`;
              return (
                <Table.Row key={`${name} ${row.pipeline}`} bg="transparent" title={scores}>
                  <Table.Cell maxWidth="150px" truncate>
                    {place === 0 && name}
                  </Table.Cell>
                  {rows.length > 1 && (
                    <Table.Cell maxWidth="110px" truncate color="fg.muted">
                      {row.pipeline}
                    </Table.Cell>
                  )}
                  <Table.Cell>
                    <Box asChild color={color}>
                      <svg width={SPAN} height={LINE} style={{ display: "block" }} aria-hidden="true">
                        <line x1={x(0)} x2={x(0)} y2={LINE} stroke="var(--chakra-colors-fg-muted)" strokeDasharray="3 3" />
                        {told && (
                          <g stroke="currentColor" fill="currentColor">
                            <line x1={x(told.interval[0])} x2={x(told.interval[1])} y1={LINE / 2} y2={LINE / 2} strokeWidth={2} />
                            <circle cx={x(told.difference)} cy={LINE / 2} r={4} />
                          </g>
                        )}
                      </svg>
                    </Box>
                  </Table.Cell>
                  <Table.Cell whiteSpace="nowrap" color={clear ? color : "fg.muted"} fontWeight={clear ? 600 : 400}>
                    {told
                      ? `${signed(told.difference)}${clear ? ` ${told.verdict}` : ""}`
                      : none(name) === undefined
                        ? "none to judge"
                        : scores}
                  </Table.Cell>
                </Table.Row>
              );
            }),
          )}
          <Table.Row bg="transparent" aria-hidden="true">
            <Table.Cell colSpan={rows.length > 1 ? 2 : 1} color="fg.muted" fontSize="caption!">
              difference to none
            </Table.Cell>
            <Table.Cell>
              <svg width={SPAN} height={18} style={{ display: "block" }} aria-hidden="true">
                {marks.map((mark) => (
                  <text key={mark} x={x(mark)} y={13} textAnchor="middle" fontSize={PLOT_TEXT} fill="var(--chakra-colors-fg-muted)">
                    {mark > 0 ? `+${mark}` : mark === 0 ? "0" : `−${-mark}`}
                  </text>
                ))}
              </svg>
            </Table.Cell>
            <Table.Cell />
          </Table.Row>
        </Table.Body>
      </Table.Root>
    </Box>
  );
}

const say = (value: number | undefined) => value?.toFixed(3) ?? "nothing";

/** One probe, found again. */
export function ProbePage() {
  const id = Number(useParams().id);
  const client = useQueryClient();
  const go = useNavigate();
  const found = useQuery(askInquiry(id));
  const remove = useMutation({
    mutationFn: () => take(api.DELETE("/api/inquiries/{id}", { params: { path: { id } } })),
    onSuccess: async () => {
      await refresh(client, "inquiries");
      await go("/trials");
    },
  });
  if (!found.data) return <OneState asked={found} what={`probe ${id}`} back="/trials" all="All trials" />;
  return (
    <Box height="100%" overflowY="auto" px={6} py={5}>
      <ViewTools>
        <Text color="fg.muted" truncate>
          <Link to="/trials">Trials</Link> / probe {id} of {found.data.dataset_name}, {found.data.created.slice(0, 16).replace("T", " ")}
        </Text>
        <May to="administer">
          <Button ml="auto" mr={3} size="xs" variant="ghost" colorPalette="gray" loading={remove.isPending} onClick={() => remove.mutate()}>
            Delete
          </Button>
        </May>
      </ViewTools>
      {remove.error && <ErrorBox error={remove.error} />}
      <InquiryProgress id={id}>{(inquiry) => <ProbeView found={inquiry.result as unknown as ProbeResult} />}</InquiryProgress>
    </Box>
  );
}
