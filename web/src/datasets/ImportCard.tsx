import { Box, Button, Checkbox, Flex, Input, NativeSelect, Progress, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowDown, ArrowUp } from "lucide-react";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { api, type LabelObject, take } from "../api/client";
import { askFormats, askImport, refresh } from "../api/queries";
import { Overlay } from "../picture/Overlay";
import { ErrorBox } from "../shell/ErrorBox";
import { NumberField } from "../shell/NumberField";
import { SelectOne } from "../shell/Select";
import { counted, sayCounts, sentence } from "../words/figures";
import { type DatasetImport, type Recognised, recogniseAs } from "./imports";

const RUNNING = ["waiting", "reading"];
const LAYERS = { boxes: true, names: true, polygons: true, masks: true, keypoints: true };
const EXAMPLE_WIDTH = 400;

interface ClassChoice {
  from: string;
  to: string;
  labels: number;
}

/** What was recognised, the choices that change its meaning, and then how far it has come in. */
export function ImportCard({ first, close }: { first: DatasetImport; close: () => void }) {
  const client = useQueryClient();
  const [started, setStarted] = useState(false);
  const watched = useQuery({
    ...askImport(first.id),
    enabled: started,
    refetchInterval: ({ state }) => (!state.data || RUNNING.includes(state.data.state ?? "") ? 300 : false),
  });
  const done = watched.data?.state === "done";
  useEffect(() => {
    if (done) void refresh(client, "datasets");
  }, [done, client]);
  const cancel = useMutation({
    mutationFn: () => take(api.DELETE("/api/imports/{id}", { params: { path: { id: first.id } } })),
    onSuccess: () => (started ? refresh(client, ["import", first.id]) : close()),
  });
  const incoming = started ? (watched.data ?? first) : first;
  return (
    <Box as="section" aria-label="What was recognised" borderWidth="1px" borderRadius="4px" px={4} py={4} mb={6} maxWidth="1010px">
      {started ? (
        <Arriving incoming={incoming} cancel={() => cancel.mutate()} close={close} />
      ) : (
        <Chooser incoming={first} start={() => setStarted(true)} cancel={() => cancel.mutate()} />
      )}
    </Box>
  );
}

function Arriving({ incoming, cancel, close }: { incoming: DatasetImport; cancel: () => void; close: () => void }) {
  if (incoming.state === "failed")
    return (
      <>
        <ErrorBox error={new Error(incoming.message)}>
          <Text color="fg.muted">Nothing was imported.</Text>
        </ErrorBox>
        <Button size="xs" variant="outline" mt={3} onClick={close}>
          Import another
        </Button>
      </>
    );
  if (incoming.state === "cancelled" || incoming.state === "done")
    return (
      <Flex align="center" gap={4}>
        <Text role="status">
          {incoming.state === "cancelled" ? (
            `${incoming.name} was not imported; nothing was kept.`
          ) : (
            <>
              {incoming.name} is imported.{" "}
              <Link to={`/datasets/${incoming.dataset}`} style={{ textDecoration: "underline" }}>
                Open it and its findings
              </Link>
            </>
          )}
        </Text>
        <Button size="xs" variant="outline" ml="auto" onClick={close}>
          Import another
        </Button>
      </Flex>
    );
  return (
    <>
      <Progress.Root value={incoming.done ?? 0} max={Math.max(incoming.total ?? 1, 1)} size="sm" aria-label="Images imported">
        <Progress.Track bg="bg.emphasized">
          <Progress.Range bg="amber.solid" />
        </Progress.Track>
      </Progress.Root>
      <Flex mt={2} align="center">
        <Text role="status">
          {incoming.state === "reading" ? `${incoming.done} of ${incoming.total} images of ${incoming.name}` : "waiting in the queue"}
        </Text>
        <Button ml="auto" size="xs" variant="outline" onClick={cancel}>
          Cancel
        </Button>
      </Flex>
    </>
  );
}

function Chooser({ incoming, start, cancel }: { incoming: DatasetImport; start: () => void; cancel: () => void }) {
  const [name, setName] = useState(incoming.name ?? "");
  const again = useMutation({
    mutationFn: (wish: { format: string; levels: string }) => recogniseAs(incoming.id, wish.format, wish.levels),
  });
  const found = (again.data ?? incoming).recognised as Recognised;
  const formats = useQuery(askFormats).data?.formats.filter((each) => each.reads) ?? [];
  const convention = formats.find((each) => each.name === found.format)?.convention ?? "";
  const [exif, setExif] = useState<"upright" | "stored">("upright");
  const [splits, setSplits] = useState<"files" | "drawn">("files");
  const [stratify, setStratify] = useState(true);
  const [maskClass, setMaskClass] = useState("");
  const [pairs, setPairs] = useState<string | null>(null);
  const [classPairs, setClassPairs] = useState("");
  const [tile, setTile] = useState({ side: 0, overlap: 128 });
  const [shares, setShares] = useState({ validation: 10, test: 10, seed: 0 });
  const [groups, setGroups] = useState("");
  const [pattern, setPattern] = useState("{group}_*");
  const [classes, setClasses] = useState<ClassChoice[] | null>(null);
  const listed = classes ?? found.classes.map((each) => ({ from: each.name, to: each.name, labels: each.labels }));
  const begin = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/imports/{id}/start", {
          params: { path: { id: incoming.id } },
          body: {
            name,
            form: found.format,
            exif,
            splits,
            shares: [shares.validation / 100, shares.test / 100],
            seed: shares.seed,
            stratify,
            groups: groups === "name" ? `name:${pattern}` : groups,
            mask_class: maskClass.trim(),
            levels: found.levels ?? "",
            mirror_classes: pairsIn(classPairs),
            ...(pairs === null ? {} : { mirror_pairs: pairsIn(pairs) }),
            ...(tile.side ? { tile: [tile.side, tile.side], overlap: tile.overlap } : {}),
            ...(classes ? { classes: classes.map((each) => [each.from, each.to.trim()]) } : {}),
          },
        }),
      ),
    onSuccess: start,
  });
  const put = (place: number, to: string) => setClasses(listed.map((each, other) => (other === place ? { ...each, to } : each)));
  const move = (place: number, by: number) => {
    const next = [...listed];
    const [taken] = next.splice(place, 1);
    if (taken) next.splice(place + by, 0, taken);
    setClasses(next);
  };
  const told = `${found.images.toLocaleString("en")} images${found.exact ? `: ${sayCounts(found.splits)}` : ""}`;
  return (
    <Flex gap={6} align="flex-start">
      <Box flex="none" width={`${EXAMPLE_WIDTH}px`}>
        <Example id={incoming.id} found={found} key={`${found.format} ${found.levels}`} />
        <Text fontSize="small" color="fg.muted" mt={2}>
          {sentence(convention)} Do the labels sit on what they name?
        </Text>
      </Box>
      <Box flex="1" minWidth={0}>
        <Flex gap={3} align="center" mb={2}>
          <Input
            size="sm"
            fontWeight={650}
            aria-label="Name of the dataset"
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
          <NativeSelect.Root size="sm" width="170px" flex="none">
            <NativeSelect.Field
              aria-label="Format"
              value={found.format}
              onChange={(event) => {
                setClasses(null);
                again.mutate({ format: event.target.value, levels: found.levels ?? "" });
              }}
            >
              {formats.map((each) => (
                <option key={each.name} value={each.name}>
                  read as {each.reading_title}
                </option>
              ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Flex>
        <Text>{told}</Text>
        <Why found={found} />
        {found.keypoints.length > 0 && (
          <Text fontSize="small" color="fg.muted" truncate title={found.keypoints.join(", ")}>
            {found.keypoints.length} keypoints: {found.keypoints.join(", ")}
          </Text>
        )}
        {found.label_map.length > 0 && (
          <Text fontSize="small" color="fg.muted">
            label maps of {found.label_map.join(", ")}
          </Text>
        )}
        {found.problem_count > 0 && <Problems found={found} />}
        {found.asks?.includes("mask_class") && (
          <Question name="Masks">
            <Input
              size="xs"
              aria-label="Class of the masks"
              placeholder="what do the masks show?"
              value={maskClass}
              onChange={(event) => setMaskClass(event.target.value)}
            />
            <Text fontSize="small" color="fg.muted" mt={1}>
              They hold background and one class, whose name the files do not say.
            </Text>
          </Question>
        )}
        {((found.unclear ?? 0) > 0 || found.levels) && (
          <Question name="Levels">
            <LevelsRule rule={found.levels ?? ""} change={(levels) => again.mutate({ format: found.format, levels })} />
            <Text fontSize="small" color="fg.muted" mt={1}>
              {counted(found.unclear ?? 0, "picture has", "pictures have")} floats, signed or 32-bit levels: what is black, what is white?
            </Text>
          </Question>
        )}
        <Question name="Splits">
          <SelectOne
            name="Splits"
            value={splits}
            options={{ files: found.splits_drawn ? "drawn, for the files name none: 80/10/10" : "as the files say", drawn: "drawn anew" }}
            change={(value) => setSplits(value as "files" | "drawn")}
          />
          {splits === "drawn" && (
            <Flex gap={2} align="center" mt={1.5} fontSize="small" color="fg.muted" wrap="wrap">
              <NumberField
                label="share of validation, %"
                value={shares.validation}
                low={0}
                high={90}
                width="52px"
                change={(value) => setShares({ ...shares, validation: value ?? 10 })}
              />
              % validation
              <NumberField
                label="share of test, %"
                value={shares.test}
                low={0}
                high={90}
                width="52px"
                change={(value) => setShares({ ...shares, test: value ?? 10 })}
              />
              % test, seed
              <NumberField
                label="seed of the split"
                value={shares.seed}
                low={0}
                high={999999}
                whole
                width="66px"
                change={(value) => setShares({ ...shares, seed: value ?? 0 })}
              />
              <Checkbox.Root size="xs" checked={stratify} onCheckedChange={({ checked }) => setStratify(checked === true)}>
                <Checkbox.HiddenInput />
                <Checkbox.Control />
                <Checkbox.Label fontWeight={400}>each class alike</Checkbox.Label>
              </Checkbox.Root>
              <Text flexBasis="100%">
                Training gets {100 - shares.validation - shares.test} %. Equal files, groups and images known from an earlier import stay
                where they are.
              </Text>
            </Flex>
          )}
        </Question>
        <Question name="Groups">
          <SelectOne
            name="Groups"
            value={groups}
            options={{
              "": "none, or as the files say",
              folder: "images of a folder belong together",
              name: "told from the file's name",
              ...Object.fromEntries(found.fields.map((field) => [`field:${field}`, `the image's field “${field}”`])),
            }}
            change={setGroups}
          />
          {groups === "name" && (
            <Input
              size="xs"
              mt={1.5}
              aria-label="Pattern of file names"
              title="{group} stands for the group's name, * for anything, # for digits"
              value={pattern}
              onChange={(event) => setPattern(event.target.value)}
            />
          )}
        </Question>
        {found.turned > 0 && (
          <Question name="Turned pictures">
            <SelectOne
              name="Turned pictures"
              value={exif}
              options={{ upright: "labels lie on the upright picture", stored: "labels lie on the picture as stored" }}
              change={(value) => setExif(value as "upright" | "stored")}
            />
            <Text fontSize="small" color="fg.muted" mt={1}>
              {counted(found.turned, "picture has", "pictures have")} an EXIF orientation; all are set upright.
            </Text>
          </Question>
        )}
        {listed.length > 0 && (
          <Question name="Classes">
            <Box maxHeight="190px" overflowY="auto" as="ol" listStyleType="none" aria-label="Classes">
              {listed.map((each, place) => (
                <Flex as="li" key={each.from} align="center" gap={1} mb="3px">
                  <Input
                    size="xs"
                    aria-label={`Name of ${each.from}`}
                    title="The same name twice makes one class; without a name its objects are left out"
                    placeholder="left out"
                    value={each.to}
                    onChange={(event) => put(place, event.target.value)}
                  />
                  <Text fontSize="small" color="fg.muted" width="82px" whiteSpace="nowrap" flex="none" textAlign="right">
                    {each.labels} labels
                  </Text>
                  <Button size="2xs" variant="ghost" aria-label={`${each.from} up`} disabled={place === 0} onClick={() => move(place, -1)}>
                    <ArrowUp size={12} />
                  </Button>
                  <Button
                    size="2xs"
                    variant="ghost"
                    aria-label={`${each.from} down`}
                    disabled={place === listed.length - 1}
                    onClick={() => move(place, 1)}
                  >
                    <ArrowDown size={12} />
                  </Button>
                </Flex>
              ))}
            </Box>
          </Question>
        )}
        {found.keypoints.length > 0 && (
          <Question name="Mirror pairs">
            <Input
              size="xs"
              aria-label="Mirror pairs"
              title="Keypoints that a mirror exchanges, as left:right with commas between pairs"
              value={pairs ?? (found.mirror_pairs ?? []).map((each) => each.join(":")).join(", ")}
              onChange={(event) => setPairs(event.target.value)}
            />
            {(found.unpaired ?? []).length > 0 && pairs === null && (
              <Text fontSize="small" color="loss" mt={1}>
                {found.unpaired?.join(", ")} {found.unpaired?.length === 1 ? "has" : "have"} no partner: a flip would confuse left and
                right.
              </Text>
            )}
          </Question>
        )}
        {listed.length > 1 && (
          <Question name="Mirror classes">
            <Input
              size="xs"
              aria-label="Mirror classes"
              placeholder="none; such as left_arrow:right_arrow"
              title="Classes that a mirror turns into each other"
              value={classPairs}
              onChange={(event) => setClassPairs(event.target.value)}
            />
          </Question>
        )}
        <Question name="Windows">
          <Flex gap={2} align="center" fontSize="small" color="fg.muted">
            <SelectOne
              name="Windows"
              value={String(tile.side)}
              options={{ "0": "pictures as they are", "512": "512 × 512 px", "1024": "1024 × 1024 px", "2048": "2048 × 2048 px" }}
              width="170px"
              change={(side) => setTile({ ...tile, side: Number(side) })}
            />
            {tile.side > 0 && (
              <>
                overlapping by
                <NumberField
                  label="overlap of windows, px"
                  value={tile.overlap}
                  low={0}
                  high={tile.side - 1}
                  whole
                  width="56px"
                  change={(value) => setTile({ ...tile, overlap: value ?? 0 })}
                />
                px
              </>
            )}
          </Flex>
        </Question>
        {(again.error ?? begin.error) && (
          <Box mt={3}>
            <ErrorBox error={again.error ?? begin.error} />
          </Box>
        )}
        <Flex gap={3} mt={5}>
          <Button
            size="sm"
            colorPalette="amber"
            onClick={() => begin.mutate()}
            loading={begin.isPending || again.isPending}
            disabled={!name.trim() || (found.asks?.includes("mask_class") && !maskClass.trim())}
          >
            Import
          </Button>
          <Button size="sm" variant="outline" onClick={cancel}>
            Cancel
          </Button>
        </Flex>
      </Box>
    </Flex>
  );
}

/** Pairs of names as they are typed: left:right, up:down. */
const pairsIn = (text: string) =>
  text
    .split(",")
    .map((pair) => pair.split(":").map((name) => name.trim()))
    .filter((pair) => pair.length === 2 && pair.every(Boolean));

/** What spoke for the format, how columns are read, and whatever else is to be known before it comes in. */
function Why({ found }: { found: Recognised }) {
  const columns = Object.entries(found.columns ?? {}).map(([meaning, column]) => `${column} as ${meaning}`);
  return (
    <Box fontSize="small" color="fg.muted" aria-label="Told by">
      {(found.why ?? []).length > 0 && (
        <Text truncate title={found.why?.join("\n")}>
          told by {found.why?.slice(0, 3).join(", ")}
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
function Problems({ found }: { found: Recognised }) {
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

function LevelsRule({ rule, change }: { rule: string; change: (rule: string) => void }) {
  const kind = rule.includes("..") ? "range" : rule;
  const [range, setRange] = useState(kind === "range" ? rule : "0..1");
  return (
    <Flex gap={2}>
      <SelectOne
        name="Levels"
        value={kind}
        options={{
          "": "not said: left out",
          "min-max": "from each picture's own range",
          percentile: "from its 1st to 99th percentile",
          range: "from … to …",
        }}
        change={(next) => change(next === "range" ? range : next)}
      />
      {kind === "range" && (
        <Input
          size="xs"
          width="120px"
          aria-label="Range of levels"
          value={range}
          onChange={(event) => setRange(event.target.value)}
          onBlur={() => change(range)}
        />
      )}
    </Flex>
  );
}

function Example({ id, found }: { id: number; found: Recognised }) {
  const [lit, setLit] = useState<string | null>(null);
  if (!found.example) return <Text color="fg.muted">No picture can be shown before there is a rule for its levels.</Text>;
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

function Question({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <Flex mt={3} gap={3} align="flex-start">
      <Text width="104px" flex="none" color="fg.muted" pt="3px">
        {name}
      </Text>
      <Box flex="1" minWidth={0}>
        {children}
      </Box>
    </Flex>
  );
}
