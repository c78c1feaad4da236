/** The style sheet of the page is what the theme says: written anew by `npm run theme`. */

import { ChakraProvider, type ChakraProviderProps } from "@chakra-ui/react";
import { createElement } from "react";
import { renderToStaticMarkup } from "react-dom/server";
import { expect, test } from "vitest";
import { theme } from "../src/theme";

test("the page's style sheet holds the theme's variables and resets", async () => {
  const markup = renderToStaticMarkup(createElement<ChakraProviderProps>(ChakraProvider, { value: theme } as ChakraProviderProps));
  const sheets = [...markup.matchAll(/<style[^>]*>(.*?)<\/style>/gs)].map(([, text = ""]) => text);
  expect(sheets[0]).toContain("@layer");
  expect(sheets.join("")).toContain("--chakra-colors-amber-400:#efac3f");
  // A rule a line, so that changes can be read.
  const css = sheets.join("\n").replaceAll(/([{};])(?=\S)/g, "$1\n");
  await expect(`/* The theme's variables and resets, from src/theme.ts: npm run theme */\n${css}\n`).toMatchFileSnapshot(
    "../src/theme.gen.css",
  );
});
