import { Box, Flex, Text } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Dataset, type Edition, take } from "../api/client";
import { askDatasets, askEditionRows, askEditions, refresh } from "../api/queries";
import { EditionProgress } from "../shell/EditionProgress";
import { Finder, holds, Note } from "../shell/Note";
import { ListState, Nothing, PageLink } from "../shell/PageState";
import { useSeen } from "../shell/use-browser";
import { ViewTools } from "../shell/views";
import { byWhom } from "../state/session";
import { counted } from "../words/figures";
import type { Statistics } from "./EditionCounts";
import { RowPicture } from "./EditionWall";

const PICTURES = 4;
const PICTURE_HIGH = 96;

/** Every edition, newest first: what it shows, what it is made from, how far it is, where to get it. */
export function Editions() {
  const editions = useQuery({ ...askEditions, refetchOnMount: "always" });
  const datasets = useQuery(askDatasets);
  const [words, setWords] = useState("");
  const shown = editions.data?.filter((edition) =>
    holds(words, edition.name, edition.note ?? "", edition.dataset_name ?? "", edition.pipeline_name),
  );
  return (
    <Box height="100%" overflowY="auto" px={6} py={5}>
      <ViewTools>
        <Text color="fg.muted" truncate>
          {editions.data && `${counted(editions.data.length, "edition")}: exported datasets with their records`}
        </Text>
        {Boolean(editions.data?.length) && (
          <Flex ml="auto" mr={2}>
            <Finder words={words} setWords={setWords} what="an edition" />
          </Flex>
        )}
      </ViewTools>
      <ListState asked={editions} what="the editions" />
      {editions.data?.length === 0 && (
        <Nothing title="No edition yet">
          <Text>
            An edition is the augmented dataset, frozen: its images and labels, and the record from which each can be made again. Make one
            on <PageLink to="/">the bench</PageLink>.
          </Text>
        </Nothing>
      )}
      {shown?.length === 0 && editions.data?.length !== 0 && <Text color="fg.muted">No edition has these words in its name or note.</Text>}
      <Flex direction="column">
        {shown?.map((edition) => (
          <Item key={edition.id} edition={edition as Edition} dataset={datasets.data?.find((each) => each.id === edition.dataset)} />
        ))}
      </Flex>
    </Box>
  );
}

function Item({ edition, dataset }: { edition: Edition; dataset: Dataset | undefined }) {
  const client = useQueryClient();
  const { place, met } = useSeen();
  const fates = (edition.statistics as Statistics).objects;
  const all = fates ? fates.kept + fates.clipped + fates.dropped : 0;
  return (
    <Flex ref={place} as="article" aria-label={edition.name} gap={8} py={5} borderBottomWidth="1px">
      <Box width="320px" flex="none">
        <Link to={`/editions/${edition.id}`}>
          <Text fontWeight={650} fontSize="heading" _hover={{ textDecoration: "underline" }}>
            {edition.name}
          </Text>
        </Link>
        <Text color="fg.muted" mt={1}>
          {edition.dataset_name} through {edition.pipeline_name}
        </Text>
        <Text color="fg.muted" fontSize="small" mb={2}>
          seed {String(edition.document.seed)} · {String(edition.order.variants)} variants
          {edition.order.originals ? " + originals" : ""} ·{" "}
          {new Date(edition.created).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" })}
          {byWhom(edition.made_by)}
        </Text>
        <Note
          of={edition.name}
          note={edition.note ?? ""}
          save={async (note) => {
            await take(api.PATCH("/api/editions/{id}", { params: { path: { id: edition.id } }, body: { note } }));
            await refresh(client, "editions");
          }}
        />
      </Box>
      <Box flex="1" minWidth={0}>
        <EditionProgress id={edition.id}>
          {fates && all > 0 && (
            <Text color="fg.muted" fontSize="small">
              {counted(all, "object")}: {fates.dropped} lost, {fates.clipped} clipped
            </Text>
          )}
        </EditionProgress>
      </Box>
      <Box flex="none" minHeight={`${PICTURE_HIGH}px`}>
        {met && edition.state === "done" && <Pictures edition={edition} dataset={dataset} />}
      </Box>
    </Flex>
  );
}

/** The first variants of an edition, with their labels. */
function Pictures({ edition, dataset }: { edition: Edition; dataset: Dataset | undefined }) {
  const variant = Number(edition.order.variants) > 0 ? "1" : undefined;
  const rows = useQuery(askEditionRows(edition, { count: PICTURES, ...(variant && { variant }) }));
  const drawn = dataset ?? { classes: [], lines: [] };
  return (
    <Flex gap="8px" justify="flex-end">
      {rows.data?.rows.map((row) => (
        <RowPicture
          key={row.row}
          row={row}
          dataset={drawn}
          width={Math.min(Math.round((PICTURE_HIGH * row.width) / row.height), Math.round(PICTURE_HIGH * 1.4))}
        />
      ))}
    </Flex>
  );
}
