import { Box, Button, CloseButton, Flex, Text } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { api, type Edition, type EditionRow, type LabelObject, take } from "../api/client";
import { Command, DrawnSteps, ObjectOutcomes, quoted, TraceTitle } from "../picture/TraceParts";
import { FullView } from "../shell/FullView";
import { ErrorBox } from "../shell/PageState";
import { useRoom } from "../shell/use-browser";
import { saySplit } from "../words/figures";
import { type Drawn, RowPicture, stepName } from "./EditionWall";

interface Props {
  edition: Edition;
  dataset: Drawn;
  row: EditionRow;
  walk: (by: number) => void;
  close: () => void;
}

/** One image of an edition: what was drawn for it, what became of its objects, and whether it can be made again. */
export function EditionImage({ edition, dataset, row, walk, close }: Props) {
  const [frame, room] = useRoom();
  const width = Math.max(80, Math.floor(Math.min(room.width, (room.height * row.width) / row.height)));
  const again = useMutation({
    mutationFn: (number: number) =>
      take(api.POST("/api/editions/{id}/images/{row}/recreate", { params: { path: { id: edition.id, row: number } } })),
  });
  const made = again.variables === row.row ? again : null;
  return (
    <FullView
      name={`Image ${row.row} of ${edition.name}`}
      keys={(event) => {
        if (event.key === "ArrowRight" || event.key === "ArrowDown") walk(1);
        if (event.key === "ArrowLeft" || event.key === "ArrowUp") walk(-1);
      }}
      close={close}
    >
      <Flex direction="column" flex="1" minWidth={0} p={4} gap={3}>
        <Flex align="center" gap={3}>
          <Text fontWeight={650} truncate>
            {row.source}, {row.variant ? `variant ${row.variant}` : "original"}
          </Text>
          <Text color="fg.muted" whiteSpace="nowrap">
            row {row.row} · {saySplit(row.split)} · {row.width} × {row.height} px
          </Text>
          <CloseButton size="sm" ml="auto" aria-label="Back to the wall" onClick={close} />
        </Flex>
        <Flex ref={frame} flex="1" minHeight={0} justify="center" align="flex-start">
          <RowPicture row={row} dataset={dataset} width={width} />
        </Flex>
      </Flex>
      <Box width="320px" flex="none" borderLeftWidth="1px" overflowY="auto" px={4} py={4} fontSize="body">
        <TraceTitle>drawn</TraceTitle>
        <DrawnSteps trace={row.trace} name={(id) => stepName(edition, id)} />
        <TraceTitle>objects</TraceTitle>
        <ObjectOutcomes trace={row.trace} name={(id) => stepName(edition, id)} objects={row.objects as LabelObject[]} />
        <TraceTitle>recreate</TraceTitle>
        <Flex align="center" gap={3} mb={2}>
          <Button size="xs" variant="outline" aria-busy={again.isPending} onClick={() => again.mutate(row.row)}>
            Recreate
          </Button>
          <Text role="status">
            {made?.isPending && "at work"}
            {made?.data && (made.data.identical ? "identical" : made.data.differences.join("; "))}
          </Text>
        </Flex>
        {made?.error && <ErrorBox error={made.error} />}
        <Command text={`varlen recreate ${quoted(edition.path)} ${row.row}`} />
        <TraceTitle>file</TraceTitle>
        <Text color="fg.muted" overflowWrap="anywhere">
          {row.file}
        </Text>
        <TraceTitle>pixel digest</TraceTitle>
        <Text fontFamily="mono" fontSize="caption" color="fg.muted" overflowWrap="anywhere" data-testid="pixel-digest">
          {row.pixel_digest}
        </Text>
      </Box>
    </FullView>
  );
}
