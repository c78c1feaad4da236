import { Box, Flex, IconButton, Link, Text } from "@chakra-ui/react";
import { SunMoon } from "lucide-react";
import { lazy, Suspense } from "react";
import { NavLink, Outlet } from "react-router";
import { session } from "../state/session";
import { ShortcutSheet } from "./ShortcutSheet";
import { toggleTheme } from "./theme-choice";

/** Only where people sign in. */
const Account = lazy(async () => ({ default: (await import("./Account")).Account }));

const VIEWS = [
  { to: "/", name: "Bench" },
  { to: "/pipelines", name: "Pipelines" },
  { to: "/datasets", name: "Datasets" },
  { to: "/editions", name: "Editions" },
  { to: "/trials", name: "Trials" },
];

/** The frame of every view: the name, the views, and what belongs to all of them. */
export function Shell() {
  return (
    <Flex direction="column" height="100vh" overflow="hidden">
      <Flex as="header" align="center" height="40px" flex="none" px={4} gap={6} borderBottomWidth="1px">
        <Text fontWeight={700} fontSize="heading" letterSpacing="0.01em">
          Varlen
        </Text>
        <Flex as="nav" aria-label="Views" gap={1} height="100%">
          {VIEWS.map(({ to, name }) => (
            <NavLink key={to} to={to} end={to === "/"} style={{ height: "100%" }}>
              {({ isActive }) => (
                <Flex
                  align="center"
                  height="100%"
                  px={3}
                  borderBottomWidth="2px"
                  borderColor={isActive ? "amber.solid" : "transparent"}
                  color={isActive ? "fg" : "fg.muted"}
                  fontWeight={isActive ? 600 : 400}
                  _hover={{ color: "fg" }}
                >
                  {name}
                </Flex>
              )}
            </NavLink>
          ))}
        </Flex>
        {/* Each view puts its own title and tools here. */}
        <Flex id="view-tools" flex="1" minWidth={0} height="100%" align="center" />
        <Flex gap={1} align="center">
          <Link href="/help/" target="_blank" rel="noopener" px={2} color="fg.muted" _hover={{ color: "fg" }}>
            Help
          </Link>
          <IconButton colorPalette="gray" aria-label="Light or dark" title="Light or dark" variant="ghost" size="xs" onClick={toggleTheme}>
            <SunMoon size={16} />
          </IconButton>
          <ShortcutSheet />
          {session.sign_in && (
            <Suspense>
              <Account />
            </Suspense>
          )}
        </Flex>
      </Flex>
      <Box as="main" flex="1" minHeight={0}>
        <Outlet />
      </Box>
    </Flex>
  );
}
