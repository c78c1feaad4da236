import { Box, Button, Flex, Grid, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { useState } from "react";
import { api, type PipelineDocument, type Schemas, take } from "../api/client";
import { askStartingPoints, openNext, refresh } from "../api/queries";
import { may } from "../state/session";
import { sayName } from "../words/steps";
import { PageDialog } from "./Dialog";
import { ErrorBox } from "./PageState";

/** Words that a header narrower than this has no room for; what they name has its name without them. */
export const NARROW = "1150px";

type StartingPoint = Schemas["StartingPoint"];

interface Props {
  label?: string;
  /** Whether the label gives way where the window is narrow. */
  shrinks?: boolean;
  /** Told once it is there and will be opened next. */
  opened: () => void;
}

/** Begin another pipeline, empty or from a starting point. */
export function NewPipeline({ label = "New pipeline", shrinks = false, opened }: Props) {
  const [choosing, setChoosing] = useState(false);
  if (!may.edit) return null;
  return (
    <>
      <Button size="xs" variant="outline" flex="none" title="Begin another pipeline" aria-label={label} onClick={() => setChoosing(true)}>
        <Plus size={13} />{" "}
        <Box as="span" hideBelow={shrinks ? NARROW : undefined}>
          {label}
        </Box>
      </Button>
      {choosing && (
        <Choices
          close={() => setChoosing(false)}
          opened={() => {
            setChoosing(false);
            opened();
          }}
        />
      )}
    </>
  );
}

function Choices({ close, opened }: { close: () => void; opened: () => void }) {
  const client = useQueryClient();
  const points = useQuery(askStartingPoints);
  const [name, setName] = useState("");
  const begin = useMutation({
    mutationFn: ({ document }: StartingPoint) =>
      take(api.POST("/api/pipelines", { body: { document: { ...document, ...(name.trim() && { name: name.trim() }) } } })),
    onSuccess: async (revision) => {
      openNext(revision.pipeline);
      await refresh(client, "pipelines");
      opened();
    },
  });
  return (
    <PageDialog title="New pipeline" size="lg" close={close}>
      {(points.error ?? begin.error) && <ErrorBox error={points.error ?? begin.error} />}
      <Flex align="center" gap={3} mb={4}>
        <Text flex="none">name</Text>
        <Input
          size="sm"
          autoFocus
          aria-label="Name of the pipeline"
          placeholder="such as Lamp drift, stronger; else that of its beginning"
          maxLength={120}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
      </Flex>
      <Grid templateColumns="1fr 1fr" gap="10px">
        {points.data?.map((point) => (
          <Button
            key={point.task}
            variant="outline"
            colorPalette="gray"
            height="auto"
            flexDirection="column"
            alignItems="flex-start"
            justifyContent="flex-start"
            gap={1}
            px={3}
            py="10px"
            fontSize="body"
            fontWeight={400}
            textAlign="left"
            whiteSpace="normal"
            _hover={{ borderColor: "amber.solid" }}
            disabled={begin.isPending}
            onClick={() => begin.mutate(point)}
          >
            <Text as="span" fontWeight={650}>
              {point.task}
            </Text>
            <span>{point.why}</span>
            <Text as="span" color="fg.muted">
              {stepsOf(point)}
            </Text>
          </Button>
        ))}
      </Grid>
      {points.isPending && <Text color="fg.muted">Loading the starting points…</Text>}
    </PageDialog>
  );
}

/** The steps of a starting point, in words. */
function stepsOf({ document }: StartingPoint): string {
  return (document as unknown as PipelineDocument).steps.map((step) => sayName(step.step)).join(" → ");
}
