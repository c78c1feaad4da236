import "@fontsource-variable/inter";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Outlet, type RouteObject, RouterProvider } from "react-router";
import { isMissing } from "./api/client";
import { Bench } from "./bench/Bench";
import { begin } from "./bench/begin";
import { furnishedView } from "./shell/furnished";
import { lazyView } from "./shell/lazy-view";
import { Shell } from "./shell/Shell";
import { restoreTheme } from "./shell/theme-choice";
import { ViewFailed } from "./shell/ViewFailed";
import { session } from "./state/session";
import "./theme.gen.css";

restoreTheme();

/** What is not there will not be there in a moment. */
const isWorthAnother = (failures: number, error: Error): boolean => failures < 1 && !isMissing(error);

const client = new QueryClient({
  defaultOptions: {
    // A machine without a network still reaches a server on itself.
    queries: { staleTime: 30_000, retry: isWorthAnother, refetchOnWindowFocus: false, networkMode: "always" },
    mutations: { networkMode: "always" },
  },
});

// Only where the bench is what comes first.
if (location.pathname === "/" && session.role) void begin(client);

const views: RouteObject[] = [
  { index: true, element: <Bench /> },
  // The bench comes at once; the others when they are gone to.
  { path: "pipelines", lazy: lazyView(() => furnishedView(async () => (await import("./pipelines/Pipelines")).Pipelines)) },
  { path: "datasets", lazy: lazyView(() => furnishedView(async () => (await import("./datasets/Datasets")).Datasets)) },
  { path: "datasets/:id", lazy: lazyView(() => furnishedView(async () => (await import("./datasets/DatasetPage")).DatasetPage)) },
  { path: "editions", lazy: lazyView(() => furnishedView(async () => (await import("./editions/Editions")).Editions)) },
  { path: "editions/:id", lazy: lazyView(() => furnishedView(async () => (await import("./editions/EditionPage")).EditionPage)) },
  {
    path: "editions/:id/against/:other",
    lazy: lazyView(() => furnishedView(async () => (await import("./editions/ComparePage")).ComparePage)),
  },
  { path: "probes/:id", lazy: lazyView(() => furnishedView(async () => (await import("./evidence/ProbePage")).ProbePage)) },
  { path: "trials", lazy: lazyView(() => furnishedView(async () => (await import("./editions/Trials")).Trials)) },
  { path: "people", lazy: lazyView(() => furnishedView(async () => (await import("./people/People")).People)) },
  { path: "*", element: <Bench /> },
];

const router = createBrowserRouter([
  { path: "join", HydrateFallback: () => null, lazy: lazyView(() => furnishedView(async () => (await import("./people/Join")).Join)) },
  {
    element: session.role ? <Shell /> : <Outlet />,
    // Nothing to show while the first view is on its way.
    HydrateFallback: () => null,
    children: session.role
      ? views.map((view) => ({ ...view, ErrorBoundary: ViewFailed }))
      : [{ path: "*", lazy: lazyView(() => furnishedView(async () => (await import("./people/SignIn")).SignIn)) }],
  },
]);

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  );
}
