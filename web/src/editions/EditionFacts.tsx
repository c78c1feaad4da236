import { Box, Button, Flex, Input, NativeSelect, Table, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Download } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, type Dataset, type Edition, type PipelineDocument, take } from "../api/client";
import { askEditions, askFolders, refresh } from "../api/queries";
import { classColor } from "../picture/class-colors";
import { Command, quoted } from "../picture/TraceParts";
import { DeleteEdition } from "../shell/DeleteEdition";
import { ErrorBox } from "../shell/ErrorBox";
import { May } from "../shell/May";
import { Heading } from "../shell/NarrowPanel";
import { fileName, saveFile } from "../shell/pipeline-file";
import { may } from "../state/session";
import { USUAL_FILES } from "../state/view";
import { counted, percent, saySplit } from "../words/figures";
import { countsOf, type SplitCount } from "./EditionPage";
import { Scores } from "./Scores";

interface Statistics {
  before?: Record<string, SplitCount>;
  box_side_px?: { from: number[]; before: Record<string, number[]>; after: Record<string, number[]> };
  objects?: { kept: number; clipped: number; dropped: number };
  blank_share?: number;
}

/** What an edition is made from and holds, where to get it, and whether its files still match its record. */
export function EditionFacts({ edition, dataset }: { edition: Edition; dataset: Dataset | undefined }) {
  const statistics = edition.statistics as Statistics;
  return (
    <Box
      as="section"
      aria-label="About this edition"
      width="340px"
      flex="none"
      borderLeftWidth="1px"
      bg="bg.raised"
      overflowY="auto"
      px={4}
      py={3}
      fontSize="body"
    >
      <Flex gap={2}>
        <Button asChild size="sm" colorPalette="amber">
          <a href={`/api/editions/${edition.id}/download`} download>
            <Download size={14} /> Download zip
          </a>
        </Button>
        <Against edition={edition} />
      </Flex>
      <Text color="fg.muted" fontSize="small" mt={2} overflowWrap="anywhere">
        on this machine in {edition.path}
      </Text>
      <Heading>made from</Heading>
      <Made edition={edition} />
      <Heading>holds</Heading>
      <Counts edition={edition} statistics={statistics} />
      {statistics.before?.train && <Balance edition={edition} statistics={statistics} classes={dataset?.classes} />}
      {statistics.box_side_px && <Sides {...statistics.box_side_px} />}
      <Heading>files compared with the record</Heading>
      <Check edition={edition} />
      <Copy edition={edition} />
      <Heading>scores</Heading>
      <Scores edition={edition} />
      <Heading>the same in a terminal</Heading>
      <Command text={exportLine(edition, dataset)}>
        <Button size="2xs" variant="outline" onClick={() => saveFile(edition.document as unknown as PipelineDocument)}>
          Save the pipeline's file
        </Button>
      </Command>
      <Heading>output digest</Heading>
      <Text fontFamily="mono" fontSize="caption" color="fg.muted" overflowWrap="anywhere" data-testid="output-digest">
        {edition.output_digest}
      </Text>
      {edition.record_digest && (
        <Text
          fontFamily="mono"
          fontSize="caption"
          color="fg.muted"
          overflowWrap="anywhere"
          data-testid="record-digest"
          title="varlen verify FOLDER --record … checks all that is said of this edition"
        >
          record {edition.record_digest}
        </Text>
      )}
      {edition.lost.length > 0 && (
        <Text fontSize="small" mt={2} data-testid="lost">
          Not in this format: {edition.lost.join("; ")}.
        </Text>
      )}
      <Box mt={6}>
        <DeleteEdition edition={edition} />
      </Box>
    </Box>
  );
}

/** An order as a record holds it; what is rarely chosen only where it is. */
interface Ordered {
  variants: number;
  originals: boolean;
  format: string;
  image: string;
  quality: number;
  splits?: string[];
  split_variants?: Record<string, number>;
  total?: number;
  per_class?: number;
  balance?: boolean;
}

/** How many training images were ordered, in words and as the command line has it. */
function sayHowMany({ variants, originals, total, per_class, balance }: Ordered): string {
  const wish = total ? `${total} training images` : per_class ? `${per_class} labels a class` : `${variants} variants`;
  return `${wish}${balance ? ", balanced" : ""}${originals ? " + originals" : ""}`;
}

const howManyFlags = ({ variants, total, per_class, balance }: Ordered) =>
  `${total ? `--total ${total}` : per_class ? `--per-class ${per_class}` : `--variants ${variants}`}${balance ? " --balance" : ""}`;

/** The line that makes the same edition elsewhere. */
function exportLine(edition: Edition, dataset: Dataset | undefined): string {
  const order = edition.order as unknown as Ordered;
  const more = Object.entries(order.split_variants ?? {}).map(([split, count]) => `${split}=${count}`);
  const parts = [
    "varlen export",
    quoted(dataset?.source || edition.dataset_name),
    quoted(fileName(edition.document as unknown as PipelineDocument)),
    `-o edition ${howManyFlags(order)}`,
    ...(order.originals ? [] : ["--no-originals"]),
    ...(order.format === USUAL_FILES.format ? [] : [`--format ${order.format}`]),
    ...(order.image === USUAL_FILES.image ? [] : [`--image ${order.image}`]),
    ...(order.quality === USUAL_FILES.quality ? [] : [`--quality ${order.quality}`]),
    ...(more.length ? [`--split-variants ${more.join(",")}`] : []),
    ...(edition.lost.some((each) => each.startsWith("all ")) ? ["--accept-loss all"] : []),
    ...(order.splits?.length ? [`--splits ${order.splits.join(",")}`] : []),
  ];
  return parts.join(" ");
}

function Made({ edition }: { edition: Edition }) {
  const order = edition.order as unknown as Ordered;
  const lines: [string, React.ReactNode][] = [
    [
      "dataset",
      edition.dataset === null ? (
        `${edition.dataset_name}, not here any more`
      ) : (
        <>
          <Link to={`/datasets/${edition.dataset}`} style={LINK}>
            {edition.dataset_name}
          </Link>
          {edition.dataset_changed && " (changed since)"}
        </>
      ),
    ],
    ["snapshot", <Digest key="dataset" text={edition.dataset_digest} />],
    [
      "pipeline",
      edition.pipeline === null ? (
        edition.pipeline_name
      ) : (
        <>
          <Link to="/pipelines" style={LINK}>
            {edition.pipeline_name}
          </Link>
          , revision {edition.revision_number}
        </>
      ),
    ],
    ["digest", <Digest key="pipeline" text={edition.pipeline_digest} />],
    ["seed", String(edition.document.seed)],
    ["order", `${sayHowMany(order)}, ${order.format}, ${order.image}${order.image === "png" ? "" : ` ${order.quality}`}`],
    ["made", edition.finished ? new Date(edition.finished).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" }) : ""],
  ];
  return (
    <Box as="dl" display="grid" gridTemplateColumns="70px 1fr" rowGap="3px">
      {lines.map(([name, value]) => (
        <Box key={name} display="contents">
          <Text as="dt" color="fg.muted">
            {name}
          </Text>
          <Text as="dd" overflowWrap="anywhere">
            {value}
          </Text>
        </Box>
      ))}
    </Box>
  );
}

const LINK = { textDecoration: "underline", textUnderlineOffset: "3px" };

function Digest({ text }: { text: string }) {
  return (
    <Text as="span" fontFamily="mono" fontSize="caption" title={text}>
      {text.slice(7, 23)}…
    </Text>
  );
}

function Counts({ edition, statistics }: { edition: Edition; statistics: Statistics }) {
  const fates = statistics.objects;
  const all = fates ? fates.kept + fates.clipped + fates.dropped : 0;
  return (
    <>
      <Table.Root size="sm" aria-label="Counts" css={{ "& td, & th": { px: 0, py: "3px", fontSize: "body" } }}>
        <Table.Header>
          <Table.Row bg="transparent">
            <Table.ColumnHeader color="fg.muted">split</Table.ColumnHeader>
            <Table.ColumnHeader textAlign="end" color="fg.muted">
              images
            </Table.ColumnHeader>
            <Table.ColumnHeader textAlign="end" color="fg.muted">
              objects
            </Table.ColumnHeader>
          </Table.Row>
        </Table.Header>
        <Table.Body>
          {countsOf(edition).map(([split, count]) => (
            <Table.Row key={split} bg="transparent">
              <Table.Cell>{saySplit(split)}</Table.Cell>
              <Table.Cell textAlign="end">{pair(statistics.before?.[split]?.images, count.images)}</Table.Cell>
              <Table.Cell textAlign="end">{pair(statistics.before?.[split]?.objects, count.objects)}</Table.Cell>
            </Table.Row>
          ))}
        </Table.Body>
      </Table.Root>
      {fates && all > 0 && (
        <Text mt={2} color="fg.muted">
          {percent(fates.kept / all)} whole, {percent(fates.clipped / all)} clipped, {percent(fates.dropped / all)} lost;{" "}
          {percent(statistics.blank_share ?? 0)} blank
        </Text>
      )}
      {edition.left_out.length > 0 && (
        <Text
          mt={2}
          color="loss"
          title={edition.left_out.map((each) => `${each.source}, variant ${each.variant}: ${each.reason}`).join("\n")}
        >
          {counted(edition.left_out.length, "image was", "images were")} left out, such as {edition.left_out[0]?.source}:{" "}
          {edition.left_out[0]?.reason}
        </Text>
      )}
    </>
  );
}

const pair = (before: number | undefined, after: number) => (before === undefined || before === after ? after : `${before} → ${after}`);

/** Each class's share of the training objects, before above, after below. */
function Balance({ edition, statistics, classes }: { edition: Edition; statistics: Statistics; classes: string[] | undefined }) {
  const before = statistics.before?.train;
  const after = countsOf(edition).find(([split]) => split === "train")?.[1];
  if (!before?.objects || !after?.objects) return null;
  const names = classes ?? Object.keys(after.classes);
  const share = (count: SplitCount, name: string) => (count.classes[name] ?? 0) / count.objects;
  const most = Math.max(...names.flatMap((name) => [share(before, name), share(after, name)]));
  return (
    <>
      <Heading>class balance, training: before above, after below</Heading>
      {names.map((name) => (
        <Box key={name} mb="5px">
          <Flex justify="space-between">
            <Text truncate>{name}</Text>
            <Text>
              {percent(share(before, name))} → {percent(share(after, name))}
            </Text>
          </Flex>
          {[before, after].map((count, place) => (
            <Box
              // biome-ignore lint/suspicious/noArrayIndexKey: before and after
              key={place}
              height="4px"
              mb="1px"
              opacity={place ? 1 : 0.5}
              width={`${(100 * share(count, name)) / most}%`}
              style={{ background: classColor(names, name) }}
            />
          ))}
        </Box>
      ))}
    </>
  );
}

/** Box sides in half octaves: shares before as an outline, after filled. */
function Sides({ from, before, after }: NonNullable<Statistics["box_side_px"]>) {
  const [left, right] = [before.train ?? [], after.train ?? []];
  const sum = (counts: number[]) =>
    Math.max(
      1,
      counts.reduce((a, b) => a + b, 0),
    );
  const shares = from.map((_, place) => [(left[place] ?? 0) / sum(left), (right[place] ?? 0) / sum(right)] as const);
  const used = shares.flatMap((each, place) => (each[0] || each[1] ? [place] : []));
  if (!used.length) return null;
  const [first, last] = [used[0] ?? 0, used.at(-1) ?? 0];
  const most = Math.max(...shares.flat());
  return (
    <>
      <Heading>box sides, px, training: before outlined, after filled</Heading>
      <Flex height="64px" align="flex-end" gap="2px" role="img" aria-label="Box sides before and after">
        {shares.slice(first, last + 1).map(([was, is], place) => (
          <Box
            key={from[first + place]}
            position="relative"
            flex="1"
            height="100%"
            title={`${Math.round(from[first + place] ?? 0)} to ${Math.round((from[first + place] ?? 0) * Math.SQRT2)} px: ${percent(was)} → ${percent(is)}`}
          >
            <Box position="absolute" bottom={0} left={0} right={0} bg="fg.muted" height={`${(100 * is) / most}%`} />
            <Box
              position="absolute"
              bottom={0}
              left={0}
              right={0}
              borderWidth="1px"
              borderColor="amber.solid"
              borderBottomWidth={0}
              height={`${(100 * was) / most}%`}
            />
          </Box>
        ))}
      </Flex>
      <Flex justify="space-between" fontSize="caption" color="fg.muted">
        <Text>{Math.round(from[first] ?? 0)}</Text>
        <Text>{Math.round((from[last] ?? 0) * Math.SQRT2)}</Text>
      </Flex>
    </>
  );
}

function Check({ edition }: { edition: Edition }) {
  const client = useQueryClient();
  const check = useMutation({
    mutationFn: () => take(api.POST("/api/editions/{id}/check", { params: { path: { id: edition.id } } })),
    onSuccess: () => refresh(client, ["edition", edition.id]),
  });
  const { state, done, count, problems, at } = edition.check_state;
  return (
    <>
      <Flex align="center" gap={3}>
        <May to="edit">
          <Button size="xs" variant="outline" loading={state === "checking" || check.isPending} onClick={() => check.mutate()}>
            Verify
          </Button>
        </May>
        <Text role="status" color={count ? "loss" : undefined}>
          {state === "checking" && `${done} of about ${edition.total} files`}
          {state === "checked" &&
            (count
              ? `${counted(count, "file differs", "files differ")} from the record`
              : `all ${done} files match the record, ${new Date(at ?? "").toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" })}`)}
        </Text>
      </Flex>
      {check.error && <ErrorBox error={check.error} />}
      {problems?.slice(0, 12).map((line) => (
        <Text key={line} color="loss" overflowWrap="anywhere">
          {line}
        </Text>
      ))}
      <Text color="fg.muted" fontSize="small" mt={1} overflowWrap="anywhere">
        varlen verify {quoted(edition.path)}
      </Text>
    </>
  );
}

/** Send it to an object store, where this server may write to one. */
function Copy({ edition }: { edition: Edition }) {
  const client = useQueryClient();
  const places = useQuery({ ...askFolders(""), enabled: may.edit });
  const stores = places.data?.folders.filter((each) => each.path.includes("://")) ?? [];
  const [url, setUrl] = useState<string | undefined>();
  const send = useMutation({
    mutationFn: (to: string) => take(api.POST("/api/editions/{id}/copy", { params: { path: { id: edition.id } }, body: { url: to } })),
    onSuccess: () => refresh(client, ["edition", edition.id]),
  });
  const copied = edition.copy_state;
  if (!stores.length && !copied.state) return null;
  const wanted = url ?? `${stores[0]?.path ?? ""}/edition-${edition.id}`;
  const under = copied.state === "copying";
  const submit = (event: React.FormEvent) => {
    event.preventDefault();
    send.mutate(wanted);
  };
  return (
    <>
      <Heading>in an object store</Heading>
      {stores.length > 0 && (
        <Flex as="form" gap={2} onSubmit={submit}>
          <Input size="xs" aria-label="Copy to" value={wanted} onChange={(event) => setUrl(event.target.value)} />
          <Button type="submit" size="xs" variant="outline" flex="none" loading={under || send.isPending}>
            Copy there
          </Button>
        </Flex>
      )}
      <Text role="status" fontSize="small" mt={1} overflowWrap="anywhere" color={copied.state === "failed" ? "loss" : "fg.muted"}>
        {under && `${copied.done ?? 0} of ${copied.total || "its"} files are there`}
        {copied.state === "copied" && `complete in ${copied.url}`}
        {copied.state === "failed" && copied.message}
      </Text>
      {send.error && <ErrorBox error={send.error} />}
    </>
  );
}

/** Choose another edition to compare this one with. */
function Against({ edition }: { edition: Edition }) {
  const navigate = useNavigate();
  const editions = useQuery(askEditions);
  const others = (editions.data ?? []).filter((each) => each.id !== edition.id && each.state === "done");
  if (!others.length) return null;
  return (
    <NativeSelect.Root size="sm" flex="1" minWidth={0}>
      <NativeSelect.Field
        aria-label="Compare with"
        value=""
        onChange={(event) => void navigate(`/editions/${edition.id}/against/${event.target.value}`)}
      >
        <option value="">compare with …</option>
        {others.map((each) => (
          <option key={each.id} value={each.id}>
            {each.id} {each.name}
          </option>
        ))}
      </NativeSelect.Field>
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
}
