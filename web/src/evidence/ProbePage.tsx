import { Box, Button, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "react-router";
import { api, take } from "../api/client";
import { askInquiry, refresh } from "../api/queries";
import { ErrorBox } from "../shell/ErrorBox";
import { May } from "../shell/May";
import { OneState } from "../shell/PageState";
import { ViewTools } from "../shell/ViewTools";
import { InquiryProgress } from "./InquiryProgress";
import { ProbeView } from "./ProbeView";
import type { ProbeResult } from "./results";

/** One probe, found again. */
export function ProbePage() {
  const id = Number(useParams().id);
  const client = useQueryClient();
  const go = useNavigate();
  const found = useQuery(askInquiry(id));
  const remove = useMutation({
    mutationFn: () => take(api.DELETE("/api/inquiries/{id}", { params: { path: { id } } })),
    onSuccess: async () => {
      await refresh(client, "inquiries");
      await go("/trials");
    },
  });
  if (!found.data) return <OneState asked={found} what={`probe ${id}`} back="/trials" all="All trials" />;
  return (
    <Box height="100%" overflowY="auto" px={6} py={5}>
      <ViewTools>
        <Text color="fg.muted" truncate>
          <Link to="/trials">Trials</Link> / probe {id} of {found.data.dataset_name}, {found.data.created.slice(0, 16).replace("T", " ")}
        </Text>
        <May to="administer">
          <Button ml="auto" mr={3} size="xs" variant="ghost" colorPalette="gray" loading={remove.isPending} onClick={() => remove.mutate()}>
            Delete
          </Button>
        </May>
      </ViewTools>
      {remove.error && <ErrorBox error={remove.error} />}
      <InquiryProgress id={id}>{(inquiry) => <ProbeView found={inquiry.result as unknown as ProbeResult} />}</InquiryProgress>
    </Box>
  );
}
