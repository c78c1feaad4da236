import { Box, Flex, IconButton, Link, Text } from "@chakra-ui/react";
import { SunMoon } from "lucide-react";
import { NavLink, Outlet } from "react-router";
import { session } from "../state/session";
import { Account } from "./Account";
import { ShortcutSheet } from "./ShortcutSheet";
import { toggleTheme } from "./use-browser";

/** Only where people sign in. */

const VIEWS = [
  { to: "/", name: "Bench" },
  { to: "/pipelines", name: "Pipelines" },
  { to: "/datasets", name: "Datasets" },
  { to: "/editions", name: "Editions" },
  { to: "/trials", name: "Trials" },
];

const VIEW_LINK = {
  px: { base: 2, xl: 3 },
  alignItems: "center",
  borderRadius: 0,
  borderBottomWidth: "2px",
  borderColor: "transparent",
  color: "fg.muted",
  _hover: { color: "fg", textDecoration: "none" },
  _currentPage: { color: "fg", fontWeight: 600, borderColor: "amber.solid" },
} as const;

/** The frame of every view: the name, the views, and what belongs to all of them. */
export function Shell() {
  return (
    <Flex direction="column" height="100vh" overflow="hidden">
      <Flex as="header" flex="none" align="center" gap={{ base: 3, xl: 6 }} height="40px" px={4} borderBottomWidth="1px">
        <Text fontSize="heading" fontWeight={700} letterSpacing="0.01em">
          Varlen
        </Text>
        <Flex as="nav" gap={1} height="100%" aria-label="Views">
          {VIEWS.map(({ to, name }) => (
            <Link key={to} {...VIEW_LINK} asChild>
              <NavLink to={to} end={to === "/"}>
                {name}
              </NavLink>
            </Link>
          ))}
        </Flex>
        {/* Each view puts its own title and tools here. */}
        <Flex id="view-tools" flex={1} align="center" minWidth={0} height="100%" />
        <Flex align="center" gap={1}>
          <Link href="/help/" target="_blank" rel="noopener" px={2} color="fg.muted" _hover={{ color: "fg", textDecoration: "none" }}>
            Help
          </Link>
          <IconButton size="xs" variant="ghost" colorPalette="gray" aria-label="Light or dark" title="Light or dark" onClick={toggleTheme}>
            <SunMoon size={16} />
          </IconButton>
          <ShortcutSheet />
          {session.sign_in && <Account />}
        </Flex>
      </Flex>
      <Box as="main" flex={1} minHeight={0}>
        <Outlet />
      </Box>
    </Flex>
  );
}
