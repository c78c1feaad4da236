import { Box, Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { askEditions } from "../api/queries";
import { EditionProgress } from "../shell/EditionProgress";
import { ListState, Nothing, PageLink } from "../shell/PageState";
import { ViewTools } from "../shell/views";
import { byWhom } from "../state/session";
import { counted } from "../words/figures";

/** Every edition, newest first: what it is made from, how far it is, where to get it. */
export function Editions() {
  const editions = useQuery({ ...askEditions, refetchOnMount: "always" });
  return (
    <Box height="100%" overflowY="auto" px={6} py={5}>
      <ViewTools>
        <Text color="fg.muted">{editions.data ? counted(editions.data.length, "edition") : ""}</Text>
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
      <Flex direction="column">
        {editions.data?.map((edition) => (
          <Flex key={edition.id} as="article" aria-label={edition.name} gap={8} py={5} borderBottomWidth="1px">
            <Box width="320px" flex="none">
              <Link to={`/editions/${edition.id}`}>
                <Text fontWeight={650} fontSize="heading" _hover={{ textDecoration: "underline" }}>
                  {edition.name}
                </Text>
              </Link>
              <Text color="fg.muted" mt={1}>
                {edition.dataset_name} through {edition.pipeline_name}
              </Text>
              <Text color="fg.muted" fontSize="small">
                seed {String(edition.document.seed)} · {String(edition.order.variants)} variants
                {edition.order.originals ? " + originals" : ""} ·{" "}
                {new Date(edition.created).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" })}
                {byWhom(edition.made_by)}
              </Text>
            </Box>
            <Box flex="1" minWidth={0}>
              <EditionProgress id={edition.id} />
            </Box>
          </Flex>
        ))}
      </Flex>
    </Box>
  );
}
