import { useQueryClient } from "@tanstack/react-query";
import { NavLink, Outlet } from "react-router";
import { api } from "../api/client";
import { useBell } from "../features/alerts/useBell";
import "../features/alerts/alerts.css";
import { SignIn } from "../features/session/SignIn";
import { signedInAtStart, useMe } from "../features/session/useMe";
import { ProblemNote } from "../components/ProblemNote";
import { Problem } from "../api/client";
import { useMode } from "./mode";

const pages = [["/", "Last night"], ["/runs", "Runs"], ["/extracts", "Extracts"], ["/results", "Result files"], ["/values", "Values"], ["/schedules", "Schedules"], ["/alerts", "Alerts"], ["/sources", "Sources"], ["/workers", "Workers"]] as const;
const contours = [0, 1, 2, 3, 4, 5].map((i) => `M-10 ${70 + i * 34} C 20 ${40 + i * 30}, 45 ${110 + i * 30}, 80 ${78 + i * 32} S 130 ${40 + i * 36}, 152 ${74 + i * 33}`);

/** Rail and page; the sign-in while nobody is signed in. */
export function Shell() {
  const { mode, toggle } = useMode();
  const { me, may } = useMe();
  const client = useQueryClient();
  const bell = useBell(!!me.data);
  if (!me.data && (!signedInAtStart || (me.error instanceof Problem && me.error.status === 401))) return <SignIn />;
  if (me.error) return <main className="page"><ProblemNote error={me.error} /></main>;
  if (!me.data) return null;
  const leave = async () => {
    await api.DELETE("/api/v1/me");
    client.clear();
    location.assign("/");
  };
  return (
    <div className="shell">
      <a className="skip" href="#main">To the page</a>
      <nav className="rail" aria-label="Main">
        <svg className="contours" viewBox="0 0 140 260" aria-hidden="true">{contours.map((d) => <path key={d} d={d} />)}</svg>
        <div className="mark">
          <svg viewBox="0 0 24 24" width="26" height="26" aria-hidden="true"><path d="M19 2v11a7 7 0 0 1-14 0v-1h10v-10" fill="none" stroke="currentColor" strokeWidth="2.2" strokeLinecap="round" strokeLinejoin="round" /></svg>
          <span>Patient<br />Ladle</span>
        </div>
        <ul>{pages.filter(([to]) => to !== "/workers" || may("author")).map(([to, name]) => <li key={to}><NavLink to={to} end={to === "/"}>{name}{to === "/alerts" && !!bell.data?.unseen && <span className="unseen" aria-label={`${bell.data.unseen} new`}>{bell.data.unseen > 99 ? "99+" : bell.data.unseen}</span>}</NavLink></li>)}</ul>
        <div className="rail-foot">
          <span>{me.data.name}, {me.data.role}</span>
          <button className="plain" type="button" onClick={toggle}>{mode === "light" ? "Dark" : "Light"} view</button>
          <button className="plain" type="button" onClick={() => void leave()}>Sign out</button>
        </div>
      </nav>
      <main className="main" id="main" tabIndex={-1}><Outlet /></main>
    </div>
  );
}
