import { Box, Button, Flex, Progress, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { api, isMissing, type Schemas, take } from "../api/client";
import { askInquiry, refresh } from "../api/queries";
import { ErrorBox, Loading } from "../shell/PageState";
import { May } from "../shell/views";
import { saySeconds } from "../words/figures";

export type Inquiry = Schemas["Inquiry"];

const UNDER_WAY = ["waiting", "running"];
const EVERY_MS = 700;

interface Props {
  id: number;
  /** What is shown once there is an answer. */
  children: (inquiry: Inquiry) => ReactNode;
}

/** A match or probe: how far it is, with a way to cancel and to go on; then its answer. */
export function InquiryProgress({ id, children }: Props) {
  const client = useQueryClient();
  const found = useQuery({
    ...askInquiry(id),
    refetchInterval: ({ state }) =>
      (state.data ? UNDER_WAY.includes(state.data.state ?? "") : !isMissing(state.error)) ? EVERY_MS : false,
  });
  const act = useMutation({
    mutationFn: (what: "cancel" | "resume") =>
      take(
        what === "cancel"
          ? api.POST("/api/inquiries/{id}/cancel", { params: { path: { id } } })
          : api.POST("/api/inquiries/{id}/resume", { params: { path: { id } } }),
      ),
    onSuccess: () => refresh(client, ["inquiry", id], "inquiries"),
  });
  if (found.error) return <ErrorBox error={found.error} />;
  if (!found.data) return <Loading what="the answer" />;
  const inquiry = found.data;
  if (inquiry.state === "done") return <>{children(inquiry)}</>;
  if (inquiry.state === "stopped" || inquiry.state === "cancelled") {
    return (
      <ErrorBox error={new Error(inquiry.state === "cancelled" ? "Cancelled." : (inquiry.message ?? ""))}>
        <May to="edit">
          <Button size="xs" variant="outline" mt={2} onClick={() => act.mutate("resume")}>
            Go on
          </Button>
        </May>
      </ErrorBox>
    );
  }
  return (
    <Box py={3} role="status">
      <Flex justify="space-between" mb={2}>
        <Text>{inquiry.state === "waiting" ? "waiting for its turn" : inquiry.doing || "starting"} …</Text>
        <Text color="fg.muted">{inquiry.seconds_left ? `about ${saySeconds(inquiry.seconds_left)} left` : ""}</Text>
      </Flex>
      <Progress.Root value={Math.round((inquiry.share ?? 0) * 100)} size="sm" colorPalette="amber">
        <Progress.Track>
          <Progress.Range />
        </Progress.Track>
      </Progress.Root>
      <May to="edit">
        <Button size="xs" variant="ghost" colorPalette="gray" mt={2} onClick={() => act.mutate("cancel")} loading={act.isPending}>
          Cancel
        </Button>
      </May>
    </Box>
  );
}
