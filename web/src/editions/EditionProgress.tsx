import { Box, Button, Flex, Progress, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Download } from "lucide-react";
import { api, type Edition, take } from "../api/client";
import { sayCounts, saySeconds } from "../bench/LedgerBar";
import { Refused } from "../shell/Refused";

const UNDER_WAY = ["waiting", "writing"];
const EVERY_MS = 500;

/** One edition on its way: how far, how fast, how long still; then where to get it. */
export function EditionProgress({ id }: { id: number }) {
  const client = useQueryClient();
  const query = useQuery({
    queryKey: ["edition", id],
    queryFn: () => take(api.GET("/api/editions/{id}", { params: { path: { id } } })),
    refetchInterval: ({ state }) => (!state.data || UNDER_WAY.includes(state.data.state ?? "") ? EVERY_MS : false),
  });
  const cancel = useMutation({
    mutationFn: () => take(api.POST("/api/editions/{id}/cancel", { params: { path: { id } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["edition", id] }),
  });
  if (query.error) return <Refused error={query.error} />;
  const edition = query.data as Edition | undefined;
  if (!edition) return <Text color="fg.muted">…</Text>;
  return <EditionState edition={edition} cancel={() => cancel.mutate()} />;
}

export function EditionState({ edition, cancel }: { edition: Edition; cancel: () => void }) {
  const left = edition.rate ? (edition.total - edition.done) / edition.rate : null;
  if (edition.state === "failed") {
    return (
      <Refused error={new Error(edition.message)}>
        <Text color="fg.muted">Nothing was left behind. Mend the cause and make the edition again.</Text>
      </Refused>
    );
  }
  if (edition.state === "cancelled") return <Text color="fg.muted">Cancelled; nothing was left behind.</Text>;
  if (edition.state === "done") {
    const counts = edition.counts as Record<string, { images: number; objects: number }>;
    return (
      <Box>
        <Text data-testid="edition-done">
          {edition.done} images: {sayCounts(Object.fromEntries(Object.entries(counts).map(([split, count]) => [split, count.images])))}
        </Text>
        <Text color="fg.muted" fontSize="12px" fontFamily="mono" overflowWrap="anywhere" my={2} data-testid="output-digest">
          {edition.output_digest}
        </Text>
        <Flex align="center" gap={3} minWidth={0}>
          <Button asChild size="sm" colorPalette="amber" flex="none">
            <a href={`/api/editions/${edition.id}/download`} download>
              <Download size={14} /> Download zip
            </a>
          </Button>
          <Text color="fg.muted" fontSize="12px" overflowWrap="anywhere" minWidth={0}>
            on this machine in {edition.path}
          </Text>
        </Flex>
      </Box>
    );
  }
  return (
    <Box>
      <Progress.Root value={edition.done} max={Math.max(edition.total, 1)} size="sm" aria-label="Images written">
        <Progress.Track bg="bg.emphasized">
          <Progress.Range bg="amber.solid" />
        </Progress.Track>
      </Progress.Root>
      <Flex mt={2} align="center" gap={4}>
        <Text data-testid="edition-progress">
          {edition.state === "waiting" ? "waiting for its turn" : `${edition.done} of ${edition.total} images`}
        </Text>
        <Text color="fg.muted">
          {edition.rate ? `${edition.rate.toFixed(0)} images/s` : ""}
          {left !== null && edition.state === "writing" ? ` · about ${saySeconds(left)} left` : ""}
        </Text>
        <Button ml="auto" size="xs" variant="outline" onClick={cancel}>
          Cancel
        </Button>
      </Flex>
    </Box>
  );
}
