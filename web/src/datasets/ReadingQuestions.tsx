import { Box, Button, Checkbox, Flex, Input, Text } from "@chakra-ui/react";
import { ArrowDown, ArrowUp } from "lucide-react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { NumberField, SelectOne } from "../shell/fields";
import { capital, counted, sentence } from "../words/figures";
import type { Recognised } from "./imports";
import { classesOf, type ReadingChoices } from "./reading-choices";
import type { Draft, Recipe } from "./recipe";
import { Teach } from "./Teach";

interface Props {
  found: Recognised;
  choices: ReadingChoices;
  choose: (change: Partial<ReadingChoices>) => void;
}

interface Taught {
  /** How a recipe for files that nothing read begins. */
  draft: Draft | null;
  isTaught: boolean;
  teach: (recipe: Recipe) => void;
  /** Read the files as another format, or as the one they were taken for. */
  setFormat: (format: string) => void;
}

/** All that can be chosen about how a dataset is read; only what the files leave open or what may be read otherwise is asked. */
export function ReadingQuestions({
  setLevels,
  draft,
  isTaught,
  teach,
  setFormat,
  ...props
}: Props & Taught & { setLevels: (levels: string) => void }) {
  const { found } = props;
  const unread = found.asks?.includes("ignore") && found.files;
  return (
    <>
      {found.doubts
        ?.filter((doubt) => doubt.option === "form")
        .map((doubt) => (
          <Question name="Meant so?" key={doubt.option}>
            <Text>{sentence(doubt.said)}</Text>
            <Answers answers={doubt.answers} choose={setFormat} />
          </Question>
        ))}
      {unread && (
        <Question name="Not read">
          <Unread files={found.files as Schemas["Account"]} hasDraft={Boolean(draft)} {...props} />
        </Question>
      )}
      {draft && (unread || isTaught) && <Teach draft={draft} isUsed={isTaught} read={teach} />}
      {found.asks?.includes("mask_class") && <MaskClass {...props} />}
      {(found.asks?.includes("levels") || found.levels) && <Levels found={found} change={setLevels} />}
      {found.images > 1 && <Splits {...props} />}
      {found.images > 1 && <Groups {...props} />}
      {found.turned > 0 && <Turned {...props} />}
      {found.classes.length > 0 && <Classes {...props} />}
      {found.keypoints.length > 0 && <MirrorPairs {...props} />}
      {found.classes.length > 1 && <MirrorClasses {...props} />}
      <Windows {...props} />
    </>
  );
}

/** Files that could hold labels and were not read: which, how one begins, and the patterns by which they are left out. */
function Unread({ files, hasDraft, choices, choose }: Props & { files: Schemas["Account"]; hasDraft: boolean }) {
  const names = files.unexplained_files;
  return (
    <>
      <Text>
        {counted(files.unexplained, "file")} could hold labels: {names.slice(0, 3).join(", ")}
        {names.length > 3 && ", …"}
      </Text>
      {!hasDraft && files.begins.length > 0 && (
        <Text as="pre" fontFamily="mono" fontSize="caption" color="fg.muted" overflowX="auto" my={1} aria-label="How the first begins">
          {files.begins.join("\n")}
        </Text>
      )}
      <Flex gap={2} align="center">
        <Field name="Files to leave out" placeholder="patterns, as *.txt" value={choices.ignore} change={(ignore) => choose({ ignore })} />
        <Button size="xs" variant="outline" flex="none" onClick={() => choose({ ignore: names.slice(0, 200).join(", ") })}>
          Leave them out
        </Button>
      </Flex>
      <Said>Or read the whole as another format, above{hasDraft ? ", or say here how they are read." : "."}</Said>
    </>
  );
}

function MaskClass({ choices, choose }: Props) {
  return (
    <Question name="Masks">
      <Field
        name="Class of the masks"
        placeholder="what do the masks show?"
        value={choices.maskClass}
        change={(maskClass) => choose({ maskClass })}
      />
      <Said>They hold background and one class, whose name the files do not say.</Said>
    </Question>
  );
}

/** A button for each way a question can be answered. */
function Answers({ answers, choose }: { answers: Record<string, string>; choose: (value: string) => void }) {
  return (
    <Flex gap={2} mt={1} wrap="wrap">
      {Object.entries(answers).map(([value, words]) => (
        <Button size="xs" variant="outline" key={value} onClick={() => choose(value)}>
          {capital(words)}
        </Button>
      ))}
    </Flex>
  );
}

function Levels({ found, change }: { found: Recognised; change: (levels: string) => void }) {
  const doubt = found.doubts?.find((each) => each.option === "levels");
  return (
    <Question name="Levels">
      <LevelsRule key={found.levels} rule={found.levels ?? ""} unsaid={doubt ? "not said" : "not said: left out"} change={change} />
      {(found.unclear ?? 0) > 0 && (
        <Said>
          {counted(found.unclear ?? 0, "picture has", "pictures have")} floats, signed or 32-bit pixel values, or more than three bands:
          what is black, what is white?
        </Said>
      )}
      {doubt && (
        <>
          <Text>{sentence(doubt.said)}</Text>
          <Answers answers={doubt.answers} choose={change} />
        </>
      )}
    </Question>
  );
}

function LevelsRule({ rule, unsaid, change }: { rule: string; unsaid: string; change: (rule: string) => void }) {
  const kind = rule.includes("..") ? "range" : rule;
  const [range, setRange] = useState(kind === "range" ? rule : "0..1");
  return (
    <Flex gap={2}>
      <SelectOne
        name="Levels"
        value={kind}
        options={{
          "": unsaid,
          "min-max": "from each picture's own range",
          percentile: "from its 1st to 99th percentile",
          range: "from … to …",
          bands: "as they are: the first three bands",
        }}
        change={(next) => change(next === "range" ? range : next)}
      />
      {kind === "range" && (
        <Input
          size="xs"
          width="120px"
          aria-label="Range of pixel values"
          value={range}
          onChange={(event) => setRange(event.target.value)}
          onBlur={() => change(range)}
        />
      )}
    </Flex>
  );
}

function Splits({ found, choices, choose }: Props) {
  return (
    <Question name="Splits">
      <SelectOne
        name="Splits"
        value={choices.splits}
        options={{ files: asTheySay(found), drawn: found.splits_drawn ? "drawn anew" : "drawn" }}
        change={(value) => choose({ splits: value as "files" | "drawn" })}
      />
      {choices.splits === "drawn" && <Shares choices={choices} choose={choose} />}
    </Question>
  );
}

function asTheySay({ splits_drawn, splits }: Props["found"]): string {
  if (splits_drawn) return "drawn, for the files name none: 80/10/10";
  return Object.keys(splits).join() === "train" ? "all for training" : "as the files say";
}

function Shares({ choices: { shares, stratify }, choose }: Omit<Props, "found">) {
  const share = (name: "validation" | "test") => (
    <NumberField
      label={`share of ${name}, %`}
      value={shares[name]}
      low={0}
      high={90}
      width="52px"
      change={(value) => choose({ shares: { ...shares, [name]: value ?? 10 } })}
    />
  );
  return (
    <Flex gap={2} align="center" mt={1.5} fontSize="small" color="fg.muted" wrap="wrap">
      {share("validation")}% validation
      {share("test")}% test, seed
      <NumberField
        label="seed of the split"
        value={shares.seed}
        low={0}
        high={999999}
        whole
        width="66px"
        change={(value) => choose({ shares: { ...shares, seed: value ?? 0 } })}
      />
      <Checkbox.Root size="xs" checked={stratify} onCheckedChange={({ checked }) => choose({ stratify: checked === true })}>
        <Checkbox.HiddenInput />
        <Checkbox.Control />
        <Checkbox.Label fontWeight={400}>each class alike</Checkbox.Label>
      </Checkbox.Root>
      <Text flexBasis="100%">
        Training gets {100 - shares.validation - shares.test} %. Equal files, groups and images known from an earlier import stay where they
        are.
      </Text>
    </Flex>
  );
}

function Groups({ found, choices, choose }: Props) {
  return (
    <Question name="Groups">
      <SelectOne
        name="Groups"
        value={choices.groups}
        options={{
          "": "none, or as the files say",
          folder: "images of a folder belong together",
          name: "told from the file's name",
          ...Object.fromEntries(found.fields.map((field) => [`field:${field}`, `the image's field “${field}”`])),
        }}
        change={(groups) => choose({ groups })}
      />
      {choices.groups === "name" && (
        <Box mt={1.5}>
          <Field
            name="Pattern of file names"
            title="{group} stands for the group's name, * for anything, # for digits"
            value={choices.pattern}
            change={(pattern) => choose({ pattern })}
          />
        </Box>
      )}
    </Question>
  );
}

function Turned({ found, choices, choose }: Props) {
  return (
    <Question name="Turned pictures">
      <SelectOne
        name="Turned pictures"
        value={choices.exif}
        options={{ upright: "labels lie on the upright picture", stored: "labels lie on the picture as stored" }}
        change={(value) => choose({ exif: value as "upright" | "stored" })}
      />
      <Said>{counted(found.turned, "picture has", "pictures have")} an EXIF orientation; all are set upright.</Said>
    </Question>
  );
}

function Classes({ found, choices, choose }: Props) {
  const listed = classesOf(found, choices);
  const put = (place: number, to: string) => choose({ classes: listed.map((each, other) => (other === place ? { ...each, to } : each)) });
  const move = (place: number, by: number) => {
    const next = [...listed];
    const [taken] = next.splice(place, 1);
    if (taken) next.splice(place + by, 0, taken);
    choose({ classes: next });
  };
  return (
    <Question name="Classes">
      <Box maxHeight="190px" overflowY="auto" as="ol" listStyleType="none" aria-label="Classes">
        {listed.map((each, place) => (
          <Flex as="li" key={each.from} align="center" gap={1} mb="3px">
            <Field
              name={`Name of ${each.from}`}
              title="The same name twice makes one class; without a name its objects are left out"
              placeholder="left out"
              value={each.to}
              change={(to) => put(place, to)}
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
  );
}

function MirrorPairs({ found, choices, choose }: Props) {
  const unpaired = found.unpaired ?? [];
  return (
    <Question name="Mirror pairs">
      <Field
        name="Mirror pairs"
        title="Keypoints that a mirror exchanges, as left:right with commas between pairs"
        value={choices.pairs ?? (found.mirror_pairs ?? []).map((each) => each.join(":")).join(", ")}
        change={(pairs) => choose({ pairs })}
      />
      {unpaired.length > 0 && choices.pairs === null && (
        <Text fontSize="small" color="loss" mt={1}>
          {unpaired.join(", ")} {unpaired.length === 1 ? "has" : "have"} no partner: a flip would confuse left and right.
        </Text>
      )}
    </Question>
  );
}

function MirrorClasses({ choices, choose }: Props) {
  return (
    <Question name="Mirror classes">
      <Field
        name="Mirror classes"
        placeholder="none; such as left_arrow:right_arrow"
        title="Classes that a mirror turns into each other"
        value={choices.classPairs}
        change={(classPairs) => choose({ classPairs })}
      />
    </Question>
  );
}

function Windows({ choices: { tile }, choose }: Props) {
  return (
    <Question name="Windows">
      <Flex gap={2} align="center" fontSize="small" color="fg.muted">
        <SelectOne
          name="Windows"
          value={String(tile.side)}
          options={{ "0": "pictures as they are", "512": "512 × 512 px", "1024": "1024 × 1024 px", "2048": "2048 × 2048 px" }}
          width="170px"
          change={(side) => choose({ tile: { ...tile, side: Number(side) } })}
        />
        {tile.side > 0 && (
          <>
            overlapping by
            <NumberField
              label="overlap of tiles, px"
              value={tile.overlap}
              low={0}
              high={tile.side - 1}
              whole
              width="56px"
              change={(value) => choose({ tile: { ...tile, overlap: value ?? 0 } })}
            />
            px
          </>
        )}
      </Flex>
    </Question>
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

interface FieldProps {
  name: string;
  value: string;
  change: (value: string) => void;
  title?: string;
  placeholder?: string;
}

/** A line of text that answers a question. */
function Field({ name, change, ...rest }: FieldProps) {
  return <Input size="xs" aria-label={name} onChange={(event) => change(event.target.value)} {...rest} />;
}

function Said({ children }: { children: React.ReactNode }) {
  return (
    <Text fontSize="small" color="fg.muted" mt={1}>
      {children}
    </Text>
  );
}
