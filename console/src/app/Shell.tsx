import { useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { NavLink, Outlet, useLocation, useMatches } from "react-router";
import { api } from "../api/client";
import { useBell } from "../features/alerts/useBell";
import "../features/alerts/alerts.css";
import { signedInAtStart, useMe } from "../features/session/useMe";
import { AwayBar } from "../components/AwayBar";
import { Boundary } from "../components/Boundary";
import { LoadingLine } from "../components/LoadingLine";
import { Logo } from "../components/Logo";
import { ProblemNote } from "../components/ProblemNote";
import { Problem } from "../api/client";
import { unsent } from "../lib/kept";
import { useMode } from "./mode";

const pages = [
  ["/", "Last night"],
  ["/runs", "Runs"],
  ["/extracts", "Extracts"],
  ["/results", "Result files"],
  ["/values", "Values"],
  ["/lookups", "Lookups"],
  ["/schedules", "Schedules"],
  ["/alerts", "Alerts"],
  ["/sources", "Sources"],
] as const;
/** What is set up once: address, name, and the role from which on it shows something. */
const setUp = [
  ["/calendars", "Calendars", "reader"],
  ["/environments", "Environments", "reader"],
  ["/channels", "Channels", "author"],
  ["/workers", "Workers", "author"],
  ["/people", "People", "administrator"],
] as const;
/** The title of the page as bookmarks and tabs show it. */
function useTitle() {
  const here = useMatches().at(-1);
  const title = (here?.handle as { title?: string | ((of: object) => string) } | undefined)?.title;
  const words = typeof title === "function" ? title(here?.params ?? {}) : title;
  useEffect(() => {
    document.title = words ? `${words} · Patient Ladle` : "Patient Ladle";
  }, [words]);
}

/** Whoever is signed in needs no form for it. A stranger's is on its way before anything is drawn. */
const signIn = signedInAtStart ? undefined : import("../features/session/SignIn");
const SignIn = lazy(async () => ({ default: (await (signIn ?? import("../features/session/SignIn"))).SignIn }));
const CommandSearch = lazy(async () => ({ default: (await import("../features/search/CommandSearch")).CommandSearch }));
/** What was open last is a help: a page older than the service, whose files are gone, does without. */
const recent = (use: (module: typeof import("../lib/recent")) => void) =>
  import("../lib/recent").then(use).catch(() => undefined);

/** Whether the search is open, and the key that opens it from anywhere. */
function useSearch(signedIn: boolean) {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    if (!signedIn) return;
    const keys = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() !== "k" || !(event.ctrlKey || event.metaKey) || event.altKey || event.shiftKey)
        return;
      event.preventDefault();
      setOpen((now) => !now);
    };
    window.addEventListener("keydown", keys, true); // before an editor that knows the key
    return () => window.removeEventListener("keydown", keys, true);
  }, [signedIn]);
  return [open, setOpen] as const;
}

const contours = [0, 1, 2, 3, 4, 5].map(
  (i) =>
    `M-10 ${70 + i * 34} C 20 ${40 + i * 30}, 45 ${110 + i * 30}, 80 ${78 + i * 32} S 130 ${40 + i * 36}, 152 ${74 + i * 33}`,
);

/** Rail and page; the sign-in while nobody is signed in. */
export function Shell() {
  const { mode, toggle } = useMode();
  const { me, may } = useMe();
  const client = useQueryClient();
  const [open, setOpen] = useState(false); // the menu of a narrow window
  const bell = useBell(!!me.data);
  const [searching, setSearching] = useSearch(!!me.data);
  const { pathname, search } = useLocation();
  useTitle();
  const name = me.data?.name;
  useEffect(() => {
    if (name && /^\/(extracts|runs|schedules|sources|lookups)\/./.test(pathname))
      void recent((module) => module.noteOpened(name, pathname, search));
  }, [name, pathname, search]);
  if (!me.data && (!signedInAtStart || (me.error instanceof Problem && me.error.status === 401)))
    return (
      <Suspense fallback={null}>
        <SignIn />
      </Suspense>
    );
  if (me.error)
    return (
      <main className="page">
        <AwayBar />
        <ProblemNote error={me.error} />
      </main>
    );
  if (!me.data) return null;
  const leave = async () => {
    await unsent.sendAll();
    if (name) await recent((module) => module.forgetRecent(name));
    await api.DELETE("/api/v1/me");
    client.clear();
    location.assign("/");
  };
  return (
    <div className="shell" key={name}>
      <a className="skip" href="#main">
        To the page
      </a>
      <nav className="rail" aria-label="Main">
        <svg className="contours" viewBox="0 0 140 260" aria-hidden="true">
          {contours.map((d) => (
            <path key={d} d={d} />
          ))}
        </svg>
        <div className="mark">
          <Logo />
          <span>
            Patient <br />
            Ladle
          </span>
        </div>
        <button
          type="button"
          className="menu"
          aria-expanded={open}
          aria-controls="pages"
          onClick={() => setOpen(!open)}
        >
          Menu
        </button>
        <button type="button" className="plain find-all" title="Find or do: Ctrl+K" onClick={() => setSearching(true)}>
          Find <kbd>Ctrl K</kbd>
        </button>
        <ul id="pages" className={open ? "open" : ""} onClick={() => setOpen(false)}>
          {pages.map(([to, name]) => (
            <li key={to}>
              <NavLink to={to} end={to === "/"}>
                {name}
                {to === "/alerts" && !!bell.data?.unseen && (
                  <span className="unseen" aria-label={`${bell.data.unseen} new`}>
                    {bell.data.unseen > 99 ? "99+" : bell.data.unseen}
                  </span>
                )}
              </NavLink>
            </li>
          ))}
          {setUp
            .filter(([, , role]) => may(role))
            .map(([to, name], place) => (
              <li key={to} className={place === 0 ? "set-up first" : "set-up"}>
                <NavLink to={to}>{name}</NavLink>
              </li>
            ))}
        </ul>
        <div className={`rail-foot ${open ? "open" : ""}`}>
          <NavLink to="/account" title="Your account" onClick={() => setOpen(false)}>
            {me.data.name}, {me.data.role}
          </NavLink>
          <button className="plain" type="button" onClick={toggle}>
            {mode === "light" ? "Dark" : "Light"} view
          </button>
          <button className="plain" type="button" onClick={() => void leave()}>
            Sign out
          </button>
        </div>
      </nav>
      {searching && (
        <Boundary what="The search">
          <Suspense fallback={null}>
            <CommandSearch
              person={me.data.name}
              pages={[...pages, ...setUp.filter(([, , role]) => may(role))]}
              may={may}
              others={[
                { name: `${mode === "light" ? "Dark" : "Light"} view`, run: toggle },
                { name: "Sign out", run: () => void leave() },
              ]}
              onClose={() => setSearching(false)}
            />
          </Suspense>
        </Boundary>
      )}
      <main className="main" id="main" tabIndex={-1}>
        <AwayBar />
        <LoadingLine />
        <Outlet />
      </main>
    </div>
  );
}
