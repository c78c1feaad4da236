import { Button } from "@chakra-ui/react";
import { useNavigate } from "react-router";
import { useView } from "../state/view";

/** Lay this dataset on the bench and go there. */
export function OnTheBench({ dataset, size = "xs" }: { dataset: number; size?: "xs" | "2xs" }) {
  const go = useNavigate();
  return (
    <Button
      size={size}
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
