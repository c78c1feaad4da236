import { Box, Button, Flex, Input, NativeSelect, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Download } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, type Dataset, type Edition, type PipelineDocument, take } from "../api/client";
import { askEditions, askFolders, refresh } from "../api/queries";
import { Command, quoted } from "../picture/TraceParts";
import { DeleteEdition } from "../shell/Dialog";
import { Heading } from "../shell/NarrowPanel";
import { ErrorBox } from "../shell/PageState";
import { fileName, saveFile } from "../shell/pipeline-file";
import { May } from "../shell/views";
import { may } from "../state/session";
import { USUAL_FILES } from "../state/view";
import { counted } from "../words/figures";
import { Balance, Counts, Sides, type Statistics } from "./EditionCounts";
import { Scores } from "./Scores";

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
      <Heading>output digest: the same digest, the same bytes</Heading>
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
      {edition.signed_by && (
        <Text fontSize="caption" color="fg.muted" overflowWrap="anywhere" data-testid="signed-by">
          signed with the key whose public part is <code>{edition.signed_by}</code>: <code>varlen verify FOLDER --signed-by KEY.pub</code>
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
