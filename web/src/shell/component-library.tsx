import { ChakraProvider } from "@chakra-ui/react";
import type { ReactNode } from "react";
import { system } from "../theme";

/** What components of the library need around them. */
export function Furnished({ children }: { children: ReactNode }) {
  return <ChakraProvider value={system}>{children}</ChakraProvider>;
}
