import { Button } from "@chakra-ui/react";
import { useNavigate } from "react-router";
import { useView } from "../state/view";

/** Lay this dataset on the bench and go there. */
export function OpenOnBench({ dataset }: { dataset: number }) {
  const go = useNavigate();
  return (
    <Button
      size="xs"
      variant="outline"
      flex="none"
      onClick={() => {
        useView.setState({ dataset, large: null });
        void go("/");
      }}
    >
      Open on the bench
    </Button>
  );
}
