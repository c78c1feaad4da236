import "@fontsource-variable/inter";
import { ChakraProvider } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { Bench } from "./bench/Bench";
import { Datasets } from "./datasets/Datasets";
import { Editions } from "./editions/Editions";
import { Shell } from "./shell/Shell";
import { restoreTheme } from "./shell/theme-choice";
import { system } from "./theme";

restoreTheme();

const client = new QueryClient({
  defaultOptions: { queries: { staleTime: 30_000, retry: 1, refetchOnWindowFocus: false } },
});

const router = createBrowserRouter([
  {
    element: <Shell />,
    children: [
      { index: true, element: <Bench /> },
      { path: "datasets", element: <Datasets /> },
      { path: "editions", element: <Editions /> },
      { path: "*", element: <Bench /> },
    ],
  },
]);

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <ChakraProvider value={system}>
        <QueryClientProvider client={client}>
          <RouterProvider router={router} />
        </QueryClientProvider>
      </ChakraProvider>
    </StrictMode>,
  );
}
