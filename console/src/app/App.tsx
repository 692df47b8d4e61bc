import { useCallback, useEffect, useMemo, useState, type ReactNode } from "react";
import { MutationCache, QueryCache, QueryClientProvider } from "@tanstack/react-query";
import { App as KitApp, ConfigProvider } from "antd";
import { createBrowserRouter, Link, RouterProvider, type RouteObject } from "react-router";
import { Problem } from "../api/client";
import { Queries } from "../api/queries";
import { Boundary } from "../components/Boundary";
import { extractsQuery } from "../features/extracts/extractsQuery";
import { kitTheme, palette, type Mode } from "../theme/tokens";
import { ModeContext } from "./mode";
import { cspNonce } from "./nonce";
import { page } from "./pages";
import { Shell } from "./Shell";

/** A session that ended while the page was open: ask who is there, which shows the sign-in. */
const onError = (error: unknown) => {
  if (error instanceof Problem && error.status === 401) void client.resetQueries({ queryKey: ["me"] });
};
const client: Queries = new Queries({
  queryCache: new QueryCache({ onError: (error, query) => query.queryKey[0] !== "me" && onError(error) }),
  mutationCache: new MutationCache({ onError }),
  defaultOptions: {
    queries: { staleTime: 3_000, retry: (n, error) => n < 2 && !(error instanceof Problem && error.status >= 400) },
  },
});

/** The longest list is asked for while its page is still on its way. */
const extractsPage = () => {
  const at = new URLSearchParams(location.search);
  void client.prefetchQuery(extractsQuery((at.get("search") ?? "").trim(), at.get("archived") ?? ""));
  return import("../features/extracts/ExtractsPage");
};

type Named = (of: { name?: string; number?: string }) => string;
const pages: [string, ReactNode, string | Named][] = [
  ["", page(() => import("../features/night/NightPage"), "NightPage"), "Last night"],
  ["runs", page(() => import("../features/runs/RunsPage"), "RunsPage"), "Runs"],
  ["runs/:number", page(() => import("../features/runs/RunPage"), "RunPage"), (of) => `Run ${of.number}`],
  ["extracts", page(extractsPage, "ExtractsPage"), "Extracts"],
  ["extracts/:name", page(() => import("../features/extracts/ExtractPage"), "ExtractPage"), (of) => of.name ?? ""],
  ["new-extract/:key", page(() => import("../features/extracts/NewExtractPage"), "NewExtractPage"), "New extract"],
  ["results", page(() => import("../features/results/ResultsPage"), "ResultsPage"), "Result files"],
  ["lookups", page(() => import("../features/lookups/LookupsPage"), "LookupsPage"), "Lookups"],
  ["lookups/:name", page(() => import("../features/lookups/LookupPage"), "LookupPage"), (of) => `Lookup ${of.name}`],
  ["values", page(() => import("../features/values/ValuesPage"), "ValuesPage"), "Values"],
  ["schedules", page(() => import("../features/schedules/SchedulesPage"), "SchedulesPage"), "Schedules"],
  [
    "schedules/:name",
    page(() => import("../features/schedules/SchedulePage"), "SchedulePage"),
    (of) => `Schedule ${of.name}`,
  ],
  [
    "schedules/:name/edit",
    page(() => import("../features/schedules/ScheduleForm"), "ScheduleEditPage"),
    (of) => `Edit ${of.name}`,
  ],
  ["new-schedule", page(() => import("../features/schedules/ScheduleForm"), "NewSchedulePage"), "Add schedule"],
  ["alerts", page(() => import("../features/alerts/AlertsPage"), "AlertsPage"), "Alerts"],
  ["channels", page(() => import("../features/alerts/ChannelsPage"), "ChannelsPage"), "Channels"],
  [
    "channels/:name/edit",
    page(() => import("../features/alerts/ChannelForm"), "ChannelEditPage"),
    (of) => `Edit ${of.name}`,
  ],
  ["new-channel", page(() => import("../features/alerts/ChannelForm"), "NewChannelPage"), "Add channel"],
  ["calendars", page(() => import("../features/schedules/CalendarsPage"), "CalendarsPage"), "Calendars"],
  ["environments", page(() => import("../features/sources/EnvironmentsPage"), "EnvironmentsPage"), "Environments"],
  ["people", page(() => import("../features/people/PeoplePage"), "PeoplePage"), "People"],
  ["account", page(() => import("../features/people/AccountPage"), "AccountPage"), "Your account"],
  ["workers", page(() => import("../features/workers/WorkersPage"), "WorkersPage"), "Workers"],
  ["sources", page(() => import("../features/sources/SourcesPage"), "SourcesPage"), "Sources"],
  [
    "sources/:name/edit",
    page(() => import("../features/sources/SourceForm"), "SourceEditPage"),
    (of) => `Edit ${of.name}`,
  ],
  ["new-source", page(() => import("../features/sources/SourceForm"), "NewSourcePage"), "Add source"],
  ["sources/:name", page(() => import("../features/browse/SourcePage"), "SourcePage"), (of) => `Source ${of.name}`],
];

function NoSuchPage() {
  return (
    <div className="page">
      <div className="hollow">
        <h1>There is no such page.</h1>
        <Link to="/">To the last night</Link>
      </div>
    </div>
  );
}

const router = createBrowserRouter([
  {
    element: <Shell />,
    children: [
      ...pages.map(([path, element, title]): RouteObject => {
        const route = { element, handle: { title } };
        return path ? { path, ...route } : { index: true, ...route };
      }),
      { path: "*", element: <NoSuchPage />, handle: { title: "No such page" } },
    ],
  },
]);

export function App() {
  const [mode, setMode] = useState<Mode>(
    () =>
      (localStorage.getItem("mode") as Mode | null) ??
      (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light"),
  );
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
          <QueryClientProvider client={client}>
            <Boundary what="The console">
              <RouterProvider router={router} />
            </Boundary>
          </QueryClientProvider>
        </KitApp>
      </ConfigProvider>
    </ModeContext>
  );
}
