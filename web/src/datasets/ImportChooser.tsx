import { Box, Button, Flex, Input, NativeSelect, Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../api/client";
import { askFormats } from "../api/queries";
import { ErrorBox } from "../shell/PageState";
import { counted, sayCounts, sentence } from "../words/figures";
import { type DatasetImport, type Recognised, recogniseAs } from "./imports";
import { ReadingQuestions } from "./ReadingQuestions";
import { EXAMPLE_WIDTH, Example, Problems, Why } from "./Recognised";
import { AS_RECOGNISED, optionsOf, type ReadingChoices } from "./reading-choices";
import type { Recipe } from "./recipe";

/** What was recognised, with an example to look at, and the choices that change its meaning. */
export function ImportChooser({ incoming, start, cancel }: { incoming: DatasetImport; start: () => void; cancel: () => void }) {
  const [name, setName] = useState(incoming.name ?? "");
  const [choices, setChoices] = useState(AS_RECOGNISED);
  const choose = (change: Partial<ReadingChoices>) => setChoices((before) => ({ ...before, ...change }));
  const again = useMutation({
    mutationFn: (wish: { format: string; levels: string; reading?: Recipe }) =>
      recogniseAs(incoming.id, wish.format, wish.levels, wish.reading ?? null),
  });
  // What was drafted for files that nothing read stays, so that it can be said differently once it is read.
  const [draft] = useState(incoming.recognised?.draft ?? null);
  const found = (again.data ?? incoming).recognised as Recognised;
  const isTaught = found.format === "recipe";
  const begin = useMutation({
    mutationFn: () =>
      take(api.POST("/api/imports/{id}/start", { params: { path: { id: incoming.id } }, body: { name, ...optionsOf(found, choices) } })),
    onSuccess: start,
  });
  const formats = useQuery(askFormats).data?.formats.filter((each) => each.reads) ?? [];
  const convention = formats.find((each) => each.name === found.format)?.convention ?? "";
  const isAnswered =
    !found.doubts?.length &&
    (!found.asks?.includes("mask_class") || choices.maskClass.trim()) &&
    (!found.asks?.includes("ignore") || choices.ignore.trim());
  const error = again.error ?? begin.error;
  return (
    <Flex gap={6} align="flex-start">
      <Box flex="none" width={`${EXAMPLE_WIDTH}px`}>
        <Example id={incoming.id} found={found} key={`${found.format} ${found.levels} ${found.example?.key}`} />
        <Text fontSize="small" color="fg.muted" mt={2}>
          {sentence(convention)}
          {found.classes.length + found.label_map.length > 0 && " Do the labels sit on what they name?"}
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
                choose({ classes: null });
                again.mutate({ format: event.target.value, levels: found.levels ?? "" });
              }}
            >
              {isTaught && <option value="recipe">read by a recipe</option>}
              {formats.map((each) => (
                <option key={each.name} value={each.name}>
                  read as {each.reading_title}
                </option>
              ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Flex>
        <Facts found={found} />
        <ReadingQuestions
          found={found}
          draft={draft}
          isTaught={isTaught}
          teach={(reading) => {
            choose({ classes: null });
            again.mutate({ format: "", levels: found.levels ?? "", reading });
          }}
          choices={choices}
          choose={choose}
          setFormat={(format) => again.mutate({ format, levels: found.levels ?? "" })}
          setLevels={(levels) => again.mutate({ format: found.asks?.includes("form") ? "" : found.format, levels })}
        />
        {error && (
          <Box mt={3}>
            <ErrorBox error={error} />
          </Box>
        )}
        <Flex gap={3} mt={5}>
          <Button
            size="sm"
            colorPalette="amber"
            onClick={() => begin.mutate()}
            loading={begin.isPending || again.isPending}
            disabled={!name.trim() || !isAnswered}
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

/** How many images of which splits, what told the format, keypoints and label maps, and what can't be used. */
function Facts({ found }: { found: Recognised }) {
  return (
    <>
      <Text>{`${found.images.toLocaleString("en")} images${found.exact ? `: ${sayCounts(found.splits)}` : ""}`}</Text>
      <Why found={found} />
      {found.files && (
        <Text fontSize="small" color="fg.muted">
          {`${counted(found.files.pictures, "picture")} · ${counted(found.files.labels, "file")} of labels · ${counted(found.files.side_files, "side file")} · ${found.files.unexplained} unexplained`}
        </Text>
      )}
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
    </>
  );
}
