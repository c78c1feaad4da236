import { Box, Button, Flex, Progress, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Download } from "lucide-react";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { api, type Edition, take } from "../api/client";
import { askEdition, refresh } from "../api/queries";
import { sayCounts, saySeconds, shortDigest } from "../words/figures";
import { DeleteEdition } from "./Dialog";
import { ErrorBox } from "./PageState";
import { May } from "./views";

const UNDER_WAY = ["waiting", "writing"];
const EVERY_MS = 500;

/** One edition on its way: how far, how fast, how long still; then where to get it. */
export function EditionProgress({ id, children }: { id: number; children?: ReactNode }) {
  const client = useQueryClient();
  const query = useQuery({
    ...askEdition(id),
    refetchInterval: ({ state }) => (!state.data || UNDER_WAY.includes(state.data.state ?? "") ? EVERY_MS : false),
  });
  const cancel = useMutation({
    mutationFn: () => take(api.POST("/api/editions/{id}/cancel", { params: { path: { id } } })),
    onSuccess: () => refresh(client, ["edition", id]),
  });
  const goOn = useMutation({
    mutationFn: (leaveOut: boolean) =>
      take(api.POST("/api/editions/{id}/resume", { params: { path: { id } }, body: { leave_out: leaveOut } })),
    onSuccess: () => refresh(client, ["edition", id]),
  });
  if (query.error) return <ErrorBox error={query.error} />;
  const edition = query.data as Edition | undefined;
  if (!edition) return <Text color="fg.muted">…</Text>;
  return (
    <EditionState edition={edition} cancel={() => cancel.mutate()} goOn={(leaveOut) => goOn.mutate(leaveOut)}>
      {children}
    </EditionState>
  );
}

interface StateProps {
  edition: Edition;
  cancel: () => void;
  goOn: (leaveOut: boolean) => void;
  /** More that is said of one that is done. */
  children?: ReactNode;
}

function EditionState({ edition, cancel, goOn, children }: StateProps) {
  const left = edition.rate ? (edition.total - edition.done) / edition.rate : null;
  if (edition.state === "failed" || edition.state === "stopped") {
    return (
      <ErrorBox error={new Error(edition.message)}>
        <Text color="fg.muted">
          Stopped after {edition.done} of {edition.total} images, which are kept. Fix the cause and resume, or resume without the images
          that can't be made.
        </Text>
        <May to="edit">
          <Flex gap={2} mt={2} wrap="wrap">
            <Button size="xs" variant="outline" onClick={() => goOn(false)}>
              Resume
            </Button>
            <Button size="xs" variant="outline" onClick={() => goOn(true)}>
              Resume without them
            </Button>
            <Button size="xs" variant="ghost" colorPalette="gray" onClick={cancel}>
              Cancel
            </Button>
          </Flex>
        </May>
      </ErrorBox>
    );
  }
  if (edition.state === "cancelled")
    return (
      <Flex align="center" gap={4}>
        <Text color="fg.muted">Cancelled; nothing was left behind.</Text>
        <DeleteEdition edition={edition} />
      </Flex>
    );
  if (edition.state === "done") {
    const counts = edition.counts as Record<string, { images: number; objects: number }>;
    return (
      <Box>
        <Text data-testid="edition-done">
          {edition.done} images: {sayCounts(Object.fromEntries(Object.entries(counts).map(([split, count]) => [split, count.images])))}
        </Text>
        {children}
        <Text color="fg.muted" fontSize="small" fontFamily="mono" my={2} title={edition.output_digest} data-testid="output-digest">
          {shortDigest(edition.output_digest ?? "")}
        </Text>
        <Flex align="center" gap={3} minWidth={0}>
          <Button asChild size="sm" colorPalette="amber" flex="none">
            <a href={`/api/editions/${edition.id}/download`} download>
              <Download size={14} /> Download zip
            </a>
          </Button>
          <Button asChild size="sm" variant="outline" flex="none">
            <Link to={`/editions/${edition.id}`}>Open</Link>
          </Button>
          <Box as="details" fontSize="small" minWidth={0}>
            <Box as="summary" color="fg.muted" cursor="pointer">
              where it lies
            </Box>
            <Text overflowWrap="anywhere">{edition.path}</Text>
          </Box>
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
          {edition.state === "waiting" ? "waiting in the queue" : `${edition.done} of ${edition.total} images`}
        </Text>
        <Text color="fg.muted">
          {edition.rate ? `${edition.rate.toFixed(0)} images/s` : ""}
          {left !== null && edition.state === "writing" ? ` · about ${saySeconds(left)} left` : ""}
        </Text>
        <May to="edit">
          <Button ml="auto" size="xs" variant="outline" onClick={cancel}>
            Cancel
          </Button>
        </May>
      </Flex>
    </Box>
  );
}
