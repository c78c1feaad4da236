import { Button, Circle, Grid, Text } from "@chakra-ui/react";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { NewPipeline } from "../shell/NewPipeline";
import { Nothing } from "../shell/PageState";
import { may } from "../state/session";

interface Props {
  /** The name of the dataset that is there. */
  dataset: string | undefined;
  /** Whether there is a pipeline. */
  pipeline: boolean;
  opened: () => void;
}

/** What a bench on which nothing lies yet needs. */
export function Beginnings({ dataset, pipeline, opened }: Props) {
  return (
    <div style={{ height: "100%", overflowY: "auto", padding: "20px 24px" }}>
      <Nothing title="The bench needs two things">
        <Text mb={4}>A pipeline is built here by looking at what it does to your own pictures and their labels.</Text>
        <Grid as="ol" templateColumns="max-content 1fr max-content" alignItems="center" rowGap="14px" columnGap={4}>
          <Need number={1} met={dataset !== undefined} says={dataset ?? "Pictures, with labels or without"}>
            {may.edit ? (
              <Button asChild size="sm" colorPalette="amber">
                <Link to="/datasets">Bring in a dataset</Link>
              </Button>
            ) : (
              "nobody has brought some in yet"
            )}
          </Need>
          <Need number={2} met={pipeline} says="A pipeline: empty, or from a starting point for your task">
            {may.edit ? <NewPipeline opened={opened} /> : "nobody has begun one yet"}
          </Need>
        </Grid>
      </Nothing>
    </div>
  );
}

/** One of them: there, or how to get it. */
function Need({ number, met, says, children }: { number: number; met: boolean; says: string; children: ReactNode }) {
  return (
    <Grid as="li" display="contents">
      <Circle
        size="28px"
        borderWidth="2px"
        borderColor={met ? "amber.solid" : "fg.muted"}
        bg={met ? "amber.solid" : undefined}
        color={met ? "amber.contrast" : undefined}
        fontWeight={650}
        aria-hidden="true"
      >
        {met ? "✓" : number}
      </Circle>
      <Text>{says}</Text>
      <span>{met ? "is here" : children}</span>
    </Grid>
  );
}
