import { Box, Button, CloseButton, Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { ChevronLeft, ChevronRight } from "lucide-react";
import { useNavigate } from "react-router";
import type { Dataset, ImageRow, LabelObject } from "../api/client";
import { askImage } from "../api/queries";
import { classColor } from "../picture/draw-labels";
import { objectName } from "../picture/outlines";
import { Readout, usePointedAt } from "../picture/Readout";
import { SourceTile } from "../picture/TileView";
import { FullView } from "../shell/FullView";
import { useRoom } from "../shell/use-browser";
import { useView } from "../state/view";
import { counted, sayBytes, saySplit } from "../words/figures";

interface Props {
  dataset: Dataset;
  image: ImageRow;
  /** What the wall is narrowed to. */
  filter: object;
  place: number;
  total: number;
  go: (place: number) => void;
  close: () => void;
}

/** One image large, its objects and its file beside it; arrow keys walk along the wall. */
export function ImageView({ dataset, image, filter, place, total, go, close }: Props) {
  const [frame, room] = useRoom();
  const { spot, onPointerMove, onPointerLeave } = usePointedAt(image.width, image.height);
  const navigate = useNavigate();
  const onBench = () => {
    useView.setState({ dataset: dataset.id, alone: { dataset: dataset.id, filter, place, total }, large: null });
    void navigate("/");
  };
  const lit = useView((view) => (view.lit?.row === image.id ? view.lit.object : null));
  const facts = useQuery(askImage(dataset, image.id));
  const width = Math.max(80, Math.floor(Math.min(room.width, (room.height * image.width) / image.height)));
  const objects = image.objects_json as LabelObject[];
  const found = facts.data;
  const lines: [string, string][] = found
    ? [
        ["file", `${found.format}, ${found.mode}, ${found.bits} bit, ${sayBytes(found.bytes ?? 0)}`],
        ["stored", `${found.width} × ${found.height} px${found.orientation !== 1 ? `, EXIF orientation ${found.orientation}` : ""}`],
        ["split", saySplit(image.split)],
        ...(image.group ? ([["group", image.group]] as [string, string][]) : []),
        ...(image.classes?.length ? ([["classes", image.classes.join(", ")]] as [string, string][]) : []),
        ...found.exif.map(({ name, value }) => [name, value] as [string, string]),
      ]
    : [];
  return (
    <FullView
      name={image.key}
      close={close}
      keys={(event) => {
        if (event.key === "ArrowLeft" && place > 0) go(place - 1);
        if (event.key === "ArrowRight" && place < total - 1) go(place + 1);
        if (event.key.toLowerCase() === "b" && !event.ctrlKey && !event.metaKey && !event.altKey) onBench();
      }}
    >
      <Flex direction="column" flex="1" minWidth={0} p={4} gap={3}>
        <Flex align="center" gap={2}>
          <Button size="xs" variant="outline" aria-label="The image before" disabled={place === 0} onClick={() => go(place - 1)}>
            <ChevronLeft size={14} />
          </Button>
          <Button size="xs" variant="outline" aria-label="The next image" disabled={place >= total - 1} onClick={() => go(place + 1)}>
            <ChevronRight size={14} />
          </Button>
          <Text fontWeight={600} truncate title={image.key}>
            {image.key}
          </Text>
          <Text color="fg.muted" whiteSpace="nowrap">
            {place + 1} of {total}
          </Text>
          <Readout address={`/api/images/${image.id}/pixel`} spot={spot} />
          <Button size="xs" variant="outline" ml="auto" title="This image alone on the bench, large (B)" onClick={onBench}>
            On the bench
          </Button>
          <CloseButton size="sm" aria-label="Back to the wall" onClick={close} />
        </Flex>
        <Flex ref={frame} flex="1" minHeight={0} align="flex-start" justify="center">
          <Box onPointerMove={onPointerMove} onPointerLeave={onPointerLeave}>
            <SourceTile image={image} tileWidth={width} dataset={dataset} />
          </Box>
        </Flex>
      </Flex>
      <Box width="250px" flex="none" borderLeftWidth="1px" overflowY="auto" px={4} py={4}>
        <Text as="h2" fontSize="small" color="fg.muted" mb={1}>
          {counted(objects.length, "object")}
        </Text>
        {objects.map((object) => (
          <Flex
            key={objectName(object)}
            gap={2}
            align="center"
            fontSize="body"
            px={1}
            py="2px"
            borderRadius="3px"
            bg={lit === objectName(object) ? "bg.emphasized" : undefined}
            onPointerEnter={() => useView.setState({ lit: { row: image.id, object: objectName(object) } })}
            onPointerLeave={() => useView.setState({ lit: null })}
            title={`id ${object.id}${found ? sayFindings(found.findings, object.id) : ""}`}
          >
            <Box width="8px" height="8px" flex="none" style={{ background: classColor(dataset.classes, object.class) }} />
            <Text truncate flex="1">
              {object.class}
              {object.crowd && " (crowd)"}
            </Text>
            <Text color="fg.muted" whiteSpace="nowrap">
              {sides(object)}
            </Text>
          </Flex>
        ))}
        {found && found.findings.length > 0 && (
          <>
            <Text as="h2" fontSize="small" color="fg.muted" mt={5} mb={1}>
              findings
            </Text>
            {[...new Set(found.findings.map((each) => each.kind))].map((kind) => (
              <Text key={kind} fontSize="body" color="loss">
                {kind.replaceAll("-", " ")}
              </Text>
            ))}
          </>
        )}
        <Text as="h2" fontSize="small" color="fg.muted" mt={5} mb={1}>
          facts
        </Text>
        {lines.map(([name, value]) => (
          <Flex key={name} fontSize="body" gap={2} py="1px">
            <Text color="fg.muted" width="74px" flex="none" truncate title={name}>
              {name}
            </Text>
            <Text overflowWrap="anywhere">{value}</Text>
          </Flex>
        ))}
      </Box>
    </FullView>
  );
}

function sides(object: LabelObject): string {
  const [x0 = 0, y0 = 0, x1 = 0, y1 = 0] = object.box;
  return `${Math.round(x1 - x0)} × ${Math.round(y1 - y0)}`;
}

function sayFindings(findings: { kind: string; object: string }[], id: string): string {
  const kinds = findings.filter((each) => each.object === id).map((each) => each.kind.replaceAll("-", " "));
  return kinds.length ? `: ${kinds.join(", ")}` : "";
}
