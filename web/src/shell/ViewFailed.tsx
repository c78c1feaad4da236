import { Box, Button, Text } from "@chakra-ui/react";
import { useRouteError } from "react-router";
import { ErrorBox } from "./ErrorBox";

/** What stands in place of a view that could not be drawn; the others go on working. */
export function ViewFailed() {
  const error = useRouteError();
  return (
    <Box p={6} maxWidth="640px">
      <ErrorBox error={error}>
        <Text color="fg.muted">This view could not be drawn. Nothing was lost; reloading the page may help.</Text>
        <Button mt={2} size="xs" variant="outline" onClick={() => location.reload()}>
          Reload
        </Button>
      </ErrorBox>
    </Box>
  );
}
