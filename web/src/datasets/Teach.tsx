import { Box, Button, Flex, NativeSelect, Table, Text } from "@chakra-ui/react";
import { useRef, useState } from "react";
import { SelectOne } from "../shell/fields";
import { saveJson } from "../shell/pipeline-file";
import { type Draft, fieldsOf, isOwn, MEANINGS, type Meaning, missingOf, type Recipe, recipeOf, taught } from "./recipe";

interface Props {
  draft: Draft;
  /** Whether what is shown beside it was read by this recipe. */
  isUsed: boolean;
  /** Read the files by a recipe. */
  read: (recipe: Recipe) => void;
}

/** Says what the columns or keys of a file are that nothing reads, by choosing; the picture beside it is drawn anew each time. */
export function Teach({ draft, isUsed, read }: Props) {
  const [fields, setFields] = useState(() => fieldsOf(draft));
  const [isShares, setShares] = useState(draft.recipe.unit === "shares");
  const own = isOwn(draft);
  const missing = missingOf(fields, own);
  const change = (next: typeof fields, shares: boolean) => {
    setFields(next);
    setShares(shares);
    if (!missingOf(next, own)) read(recipeOf(draft, next, shares));
  };
  const columns = Boolean((draft.recipe.labels as { columns?: string }).columns);
  const choice = (place: number) => (
    <What
      name={fields[place]?.name ?? ""}
      value={fields[place]?.meaning ?? "keep"}
      change={(what) => change(taught(fields, place, what), isShares)}
    />
  );
  return (
    <Box aria-label="Say how they are read" role="group" mt={2}>
      <Text mb={1}>
        What is each {columns ? "column" : "key"} of {draft.file.split("/").pop()}?
      </Text>
      <Box overflowX="auto" borderWidth="1px" borderColor="line" borderRadius="4px">
        <Table.Root size="sm" fontFamily="mono" fontSize="caption">
          {columns ? (
            <>
              <Table.Header>
                <Table.Row>
                  {fields.map((each, place) => (
                    <Table.ColumnHeader key={each.name} p={1}>
                      {choice(place)}
                    </Table.ColumnHeader>
                  ))}
                </Table.Row>
              </Table.Header>
              <Table.Body>
                {draft.rows.slice(0, 4).map((row, line) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: two lines may hold the same
                  <Table.Row key={line}>
                    {fields.map((each, place) => (
                      <Table.Cell key={each.name} p={1} whiteSpace="nowrap" color={each.meaning === "ignore" ? "fg.muted" : "fg"}>
                        {row[place]}
                      </Table.Cell>
                    ))}
                  </Table.Row>
                ))}
              </Table.Body>
            </>
          ) : (
            <Table.Body>
              {fields.map((each, place) => (
                <Table.Row key={each.name}>
                  <Table.Cell p={1}>{each.name}</Table.Cell>
                  <Table.Cell p={1}>{draft.rows[place]?.[1]}</Table.Cell>
                  <Table.Cell p={1}>{choice(place)}</Table.Cell>
                </Table.Row>
              ))}
            </Table.Body>
          )}
        </Table.Root>
      </Box>
      <Flex gap={2} align="center" mt={2} wrap="wrap">
        <SelectOne
          name="Unit of the coordinates"
          width="170px"
          value={isShares ? "shares" : "pixels"}
          options={{ pixels: "in pixels", shares: "in shares of the sides" }}
          change={(unit) => change(fields, unit === "shares")}
        />
        <Button
          size="xs"
          variant="outline"
          disabled={Boolean(missing)}
          onClick={() => {
            const recipe = recipeOf(draft, fields, isShares);
            read(recipe);
            saveJson(recipe, `${draft.file.split("/").pop()}.reading.json`);
          }}
        >
          Use and keep this recipe
        </Button>
        <RecipeFile read={read} />
      </Flex>
      <Text fontSize="small" color="fg.muted" mt={1} role="status">
        {missing || (isUsed ? "Read by this recipe: do the labels sit?" : "As it seems to be. Change what is wrong, or use it as it is.")}
      </Text>
    </Box>
  );
}

function What({ name, value, change }: { name: string; value: Meaning; change: (what: Meaning) => void }) {
  return (
    <NativeSelect.Root size="xs" minWidth="92px" fontFamily="body">
      <NativeSelect.Field aria-label={`What ${name} is`} value={value} onChange={(event) => change(event.target.value as Meaning)}>
        {Object.entries(MEANINGS).map(([meaning, words]) => (
          <option key={meaning} value={meaning}>
            {words}
          </option>
        ))}
      </NativeSelect.Field>
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
}

/** A recipe that was kept before. */
function RecipeFile({ read }: { read: (recipe: Recipe) => void }) {
  const input = useRef<HTMLInputElement>(null);
  const [problem, setProblem] = useState("");
  const open = async (file: File | undefined) => {
    if (!file) return;
    try {
      setProblem("");
      read(JSON.parse(await file.text()));
    } catch {
      setProblem(`${file.name} is not JSON`);
    }
  };
  return (
    <>
      <input
        ref={input}
        type="file"
        accept=".json"
        hidden
        aria-label="A recipe's file"
        onChange={(event) => open(event.target.files?.[0])}
      />
      <Button size="xs" variant="outline" onClick={() => input.current?.click()}>
        Open a recipe…
      </Button>
      {problem && <Text color="loss">{problem}</Text>}
    </>
  );
}
