import { useCallback, useEffect, useMemo, useState } from "react";
import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { App as KitApp, ConfigProvider } from "antd";
import { createBrowserRouter, RouterProvider } from "react-router";
import { Problem } from "../api/client";
import { kitTheme, palette, type Mode } from "../theme/tokens";
import { ModeContext } from "./mode";
import { cspNonce } from "./nonce";
import { Shell } from "./Shell";

/** A session that ended while the page was open: ask who is there, which shows the sign-in. */
const onError = (error: unknown) => {
  if (error instanceof Problem && error.status === 401) void client.resetQueries({ queryKey: ["me"] });
};
const client: QueryClient = new QueryClient({
  queryCache: new QueryCache({ onError: (error, query) => query.queryKey[0] !== "me" && onError(error) }),
  mutationCache: new MutationCache({ onError }),
  defaultOptions: { queries: { staleTime: 3_000, retry: (n, error) => n < 2 && !(error instanceof Problem && error.status >= 400) } },
});

const router = createBrowserRouter([
  {
    element: <Shell />,
    HydrateFallback: () => null,
    children: [
      { index: true, lazy: async () => ({ Component: (await import("../features/night/NightPage")).NightPage }) },
      { path: "runs", lazy: async () => ({ Component: (await import("../features/runs/RunsPage")).RunsPage }) },
      { path: "runs/:number", lazy: async () => ({ Component: (await import("../features/runs/RunPage")).RunPage }) },
      { path: "extracts", lazy: async () => ({ Component: (await import("../features/extracts/ExtractsPage")).ExtractsPage }) },
      { path: "extracts/:name", lazy: async () => ({ Component: (await import("../features/extracts/ExtractPage")).ExtractPage }) },
      { path: "results", lazy: async () => ({ Component: (await import("../features/results/ResultsPage")).ResultsPage }) },
      { path: "values", lazy: async () => ({ Component: (await import("../features/values/ValuesPage")).ValuesPage }) },
      { path: "schedules", lazy: async () => ({ Component: (await import("../features/schedules/SchedulesPage")).SchedulesPage }) },
      { path: "alerts", lazy: async () => ({ Component: (await import("../features/alerts/AlertsPage")).AlertsPage }) },
      { path: "workers", lazy: async () => ({ Component: (await import("../features/workers/WorkersPage")).WorkersPage }) },
      { path: "sources", lazy: async () => ({ Component: (await import("../features/sources/SourcesPage")).SourcesPage }) },
      { path: "sources/:name", lazy: async () => ({ Component: (await import("../features/browse/SourcePage")).SourcePage }) },
      { path: "*", element: <div className="page"><div className="hollow"><p>There is no such page.</p><a href="/">To the runs</a></div></div> },
    ],
  },
]);

export function App() {
  const [mode, setMode] = useState<Mode>(() => (localStorage.getItem("mode") as Mode | null) ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light"));
  useEffect(() => {
    const root = document.documentElement;
    root.dataset.theme = mode;
    root.style.colorScheme = mode;
    for (const [name, colour] of Object.entries(palette[mode])) root.style.setProperty(`--pl-${name}`, colour);
  }, [mode]);
  const toggle = useCallback(() => {
    setMode((now) => {
      const next = now === "light" ? "dark" : "light";
      localStorage.setItem("mode", next);
      return next;
    });
  }, []);
  const context = useMemo(() => ({ mode, toggle }), [mode, toggle]);
  return (
    <ModeContext value={context}>
      <ConfigProvider theme={kitTheme(mode)} csp={{ nonce: cspNonce }} wave={{ disabled: true }}>
        <KitApp style={{ height: "100%" }}>
          <QueryClientProvider client={client}><RouterProvider router={router} /></QueryClientProvider>
        </KitApp>
      </ConfigProvider>
    </ModeContext>
  );
}
