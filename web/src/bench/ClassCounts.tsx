import { Box, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";

/** Labels of each class in the training split before and after, as bars on one scale: how even they are is seen at a glance. */
export function ClassCounts({ classes }: { classes: readonly Schemas["ClassLabels"][] }) {
  const most = Math.max(1, ...classes.map((each) => Math.max(each.before, each.after)));
  if (!classes.some((each) => each.before)) return null;
  return (
    <Box
      as="dl"
      aria-label="Classes before and after"
      display="grid"
      gridTemplateColumns="minmax(90px, auto) 1fr auto"
      columnGap={3}
      rowGap="3px"
      alignItems="center"
      maxHeight="132px"
      overflowY="auto"
    >
      {classes.map((each) => (
        <Box key={each.name} display="contents">
          <Text as="dt" truncate title={each.name}>
            {each.name}
          </Text>
          <Box position="relative" height="9px" bg="bg.sunken">
            <Box position="absolute" insetY={0} left={0} bg="amber.solid" width={`${(100 * each.after) / most}%`} />
            <Box position="absolute" insetY={0} left={0} borderRightWidth="2px" borderColor="fg" width={`${(100 * each.before) / most}%`} />
          </Box>
          <Text as="dd" fontSize="small" color="fg.muted" whiteSpace="nowrap" fontVariantNumeric="tabular-nums">
            {each.before.toLocaleString("en")} → {each.after.toLocaleString("en")}
          </Text>
        </Box>
      ))}
    </Box>
  );
}
