import { Box, Button, Text } from "@chakra-ui/react";
import { useRouteError } from "react-router";
import { ErrorBox } from "./ErrorBox";

/** What stands in place of a view that could not be drawn; the others go on working. */
export function ViewFailed() {
  return <Failed error={useRouteError()} says="This view could not be drawn." />;
}

export function Failed({ error, says }: { error: unknown; says: string }) {
  return (
    <Box maxWidth="640px" p={6}>
      <ErrorBox error={error}>
        <Text color="fg.muted">{says} Nothing was lost; reloading the page may help.</Text>
        <Button size="xs" variant="outline" mt={2} onClick={() => location.reload()}>
          Reload
        </Button>
      </ErrorBox>
    </Box>
  );
}
