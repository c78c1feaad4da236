import { Box, Checkbox, Flex, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, type Dataset, take } from "../api/client";
import { refresh } from "../api/queries";
import { ErrorBox } from "../shell/PageState";
import { may } from "../state/session";

type Mark = "not-mirrored" | "upright";

const MARKS: Record<Mark, string> = { "not-mirrored": "must not be mirrored", upright: "must stay upright" };

/** What must not be done to a class; the bench notes a step that does it. */
export function Marks({ dataset }: { dataset: Dataset }) {
  const client = useQueryClient();
  const save = useMutation({
    mutationFn: (marks: Record<string, Mark[]>) =>
      take(api.PUT("/api/datasets/{id}/marks", { params: { path: { id: dataset.id } }, body: { marks } })),
    onSuccess: () => refresh(client, "overview", "datasets"),
  });
  const marks = dataset.marks as Record<string, Mark[]>;
  const put = (name: string, mark: Mark, on: boolean) => {
    const others = (marks[name] ?? []).filter((each) => each !== mark);
    save.mutate({ ...marks, [name]: on ? [...others, mark] : others });
  };
  return (
    <Box as="details" mt={2} fontSize="small">
      <Box as="summary" color="fg.muted" cursor="pointer">
        restrictions for a class
      </Box>
      {save.error && <ErrorBox error={save.error} />}
      {dataset.classes.map((name) => (
        <Box key={name} mt={2} role="group" aria-label={name}>
          <Text fontWeight={550}>{name}</Text>
          {(Object.keys(MARKS) as Mark[]).map((mark) => (
            <Flex key={mark} mt="3px">
              <Checkbox.Root
                size="xs"
                disabled={!may.edit}
                checked={marks[name]?.includes(mark) ?? false}
                onCheckedChange={({ checked }) => put(name, mark, checked === true)}
              >
                <Checkbox.HiddenInput />
                <Checkbox.Control />
                <Checkbox.Label fontWeight={400}>{MARKS[mark]}</Checkbox.Label>
              </Checkbox.Root>
            </Flex>
          ))}
        </Box>
      ))}
    </Box>
  );
}
