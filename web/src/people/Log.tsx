import { Box, Button, Flex, Text } from "@chakra-ui/react";
import { useInfiniteQuery } from "@tanstack/react-query";
import { api, take } from "../api/client";
import { logKey } from "../api/queries";
import { ErrorBox } from "../shell/PageState";

const PAGE = 50;

/** Who did what, the newest first. */
export function Log() {
  const log = useInfiniteQuery({
    queryKey: logKey,
    queryFn: ({ pageParam }) =>
      take(api.GET("/api/log", { params: { query: { count: PAGE, ...(pageParam ? { before: pageParam } : {}) } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length === PAGE ? (last.at(-1)?.id ?? null) : null),
    refetchOnMount: "always",
  });
  return (
    <Box as="section" aria-label="Log">
      <Text as="h2" fontWeight={650} fontSize="heading" mb={2}>
        Who did what
      </Text>
      {log.error && <ErrorBox error={log.error} />}
      <Box as="ol" listStyleType="none" aria-label="Log entries">
        {log.data?.pages.flat().map((entry) => (
          <Flex as="li" key={entry.id} gap={4} py="2px" fontSize="body">
            <Text color="fg.muted" width="150px" flex="none">
              {new Date(entry.at).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "medium" })}
            </Text>
            <Text width="180px" flex="none" truncate title={entry.who}>
              {entry.who || "this machine"}
            </Text>
            <Text flex="1" minWidth={0} truncate title={entry.what}>
              {entry.did} {entry.what}
            </Text>
            <Text color="fg.muted" width="130px" flex="none" title={`request ${entry.request}`}>
              {entry.address}
            </Text>
          </Flex>
        ))}
      </Box>
      {log.hasNextPage && (
        <Button size="xs" variant="outline" mt={2} loading={log.isFetchingNextPage} onClick={() => void log.fetchNextPage()}>
          Earlier
        </Button>
      )}
    </Box>
  );
}
