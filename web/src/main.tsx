import { ChakraProvider } from "@chakra-ui/react";
import "@fontsource-variable/inter";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Outlet, type RouteObject, RouterProvider } from "react-router";
import { isMissing } from "./api/client";
import { askDatasets, askOpenPipeline, askSteps } from "./api/queries";
import { Bench } from "./bench/Bench";
import { Shell } from "./shell/Shell";
import { restoreTheme } from "./shell/use-browser";
import { lazyView, ViewFailed } from "./shell/views";
import { session } from "./state/session";
import { system } from "./theme";

restoreTheme();

/** Do not retry a 404. */
const isWorthAnother = (failures: number, error: Error): boolean => failures < 1 && !isMissing(error);

const client = new QueryClient({
  defaultOptions: {
    // A machine without a network still reaches a server on itself.
    queries: { staleTime: 30_000, retry: isWorthAnother, refetchOnWindowFocus: false, networkMode: "always" },
    mutations: { networkMode: "always" },
  },
});

// What the bench asks for first, while the page is still being drawn; on another page a person chooses a pipeline before there is a bench.
if (session.role && location.pathname === "/")
  for (const question of [askDatasets, askOpenPipeline, askSteps]) void client.prefetchQuery(question as typeof askDatasets);

const views: RouteObject[] = [
  { index: true, element: <Bench /> },
  // The bench comes with the page; the others are loaded when they are gone to.
  { path: "pipelines", lazy: lazyView(async () => (await import("./pipelines/Pipelines")).Pipelines) },
  { path: "datasets", lazy: lazyView(async () => (await import("./datasets/Datasets")).Datasets) },
  { path: "datasets/:id", lazy: lazyView(async () => (await import("./datasets/DatasetPage")).DatasetPage) },
  { path: "editions", lazy: lazyView(async () => (await import("./editions/Editions")).Editions) },
  { path: "editions/:id", lazy: lazyView(async () => (await import("./editions/EditionPage")).EditionPage) },
  {
    path: "editions/:id/against/:other",
    lazy: lazyView(async () => (await import("./editions/ComparePage")).ComparePage),
  },
  { path: "probes/:id", lazy: lazyView(async () => (await import("./evidence/ProbeView")).ProbePage) },
  { path: "trials", lazy: lazyView(async () => (await import("./editions/Trials")).Trials) },
  { path: "people", lazy: lazyView(async () => (await import("./people/People")).People) },
  { path: "*", element: <Bench /> },
];

const router = createBrowserRouter([
  { path: "join", HydrateFallback: () => null, lazy: lazyView(async () => (await import("./people/SignIn")).Join) },
  {
    element: session.role ? <Shell /> : <Outlet />,
    // Nothing to show while the first view is on its way.
    HydrateFallback: () => null,
    children: session.role
      ? views.map((view) => ({ ...view, ErrorBoundary: ViewFailed }))
      : [{ path: "*", lazy: lazyView(async () => (await import("./people/SignIn")).SignIn) }],
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
