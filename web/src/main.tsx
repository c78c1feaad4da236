import "@fontsource-variable/inter";
import { ChakraProvider } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Outlet, type RouteObject, RouterProvider } from "react-router";
import { Bench } from "./bench/Bench";
import { begin } from "./bench/begin";
import { Shell } from "./shell/Shell";
import { restoreTheme } from "./shell/theme-choice";
import { ViewFailed } from "./shell/ViewFailed";
import { session } from "./state/session";
import { system } from "./theme";
import "./theme.gen.css";

restoreTheme();

const client = new QueryClient({
  defaultOptions: { queries: { staleTime: 30_000, retry: 1, refetchOnWindowFocus: false } },
});

// Only where the bench is what comes first.
if (location.pathname === "/" && session.role) void begin(client);

const views: RouteObject[] = [
  { index: true, element: <Bench /> },
  // The bench comes at once; the others when they are gone to.
  { path: "pipelines", lazy: async () => ({ Component: (await import("./pipelines/Pipelines")).Pipelines }) },
  { path: "datasets", lazy: async () => ({ Component: (await import("./datasets/Datasets")).Datasets }) },
  { path: "datasets/:id", lazy: async () => ({ Component: (await import("./datasets/DatasetPage")).DatasetPage }) },
  { path: "editions", lazy: async () => ({ Component: (await import("./editions/Editions")).Editions }) },
  { path: "editions/:id", lazy: async () => ({ Component: (await import("./editions/EditionPage")).EditionPage }) },
  { path: "editions/:id/against/:other", lazy: async () => ({ Component: (await import("./editions/ComparePage")).ComparePage }) },
  { path: "probes/:id", lazy: async () => ({ Component: (await import("./evidence/ProbePage")).ProbePage }) },
  { path: "trials", lazy: async () => ({ Component: (await import("./editions/Trials")).Trials }) },
  { path: "people", lazy: async () => ({ Component: (await import("./people/People")).People }) },
  { path: "*", element: <Bench /> },
];

const router = createBrowserRouter([
  { path: "join", HydrateFallback: () => null, lazy: async () => ({ Component: (await import("./people/Join")).Join }) },
  {
    element: session.role ? <Shell /> : <Outlet />,
    // Nothing to show while the first view is on its way.
    HydrateFallback: () => null,
    children: session.role
      ? views.map((view) => ({ ...view, ErrorBoundary: ViewFailed }))
      : [{ path: "*", lazy: async () => ({ Component: (await import("./people/SignIn")).SignIn }) }],
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
