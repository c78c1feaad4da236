import { Button, Text } from "@chakra-ui/react";
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
        <ol className="page-needs">
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
        </ol>
      </Nothing>
    </div>
  );
}

/** One of them: there, or how to get it. */
function Need({ number, met, says, children }: { number: number; met: boolean; says: string; children: ReactNode }) {
  return (
    <li className="page-need" data-met={met}>
      <span className="page-need-number" aria-hidden="true">
        {met ? "✓" : number}
      </span>
      <Text>{says}</Text>
      <span>{met ? "is here" : children}</span>
    </li>
  );
}
