import { lazy, Suspense } from "react";
import { useQuery } from "@tanstack/react-query";
import { Button, Segmented } from "antd";
import { Link } from "react-router";
import { api, must, type Night } from "../../api/client";
import { NoWorkerNote } from "../../components/NoWorkerNote";
import { ProblemNote } from "../../components/ProblemNote";
import { Waiting } from "../../components/Waiting";
import { StateMark } from "../../components/StateMark";
import { useAddress } from "../../lib/useAddress";
import { amount, count, moment, sentence, spaced } from "../../lib/words";
import { NightStrip } from "./NightStrip";
import "../runs/runs.css";
import "./night.css";

type Need = Night["needs"][number];

/** What is wrong with a run, by shape and word. */
function Kind({ kind }: { kind: Need["kind"] }) {
  return kind === "failed" || kind === "not_run" ? (
    <StateMark state={kind} />
  ) : (
    <span className="kind">{kind.charAt(0).toUpperCase() + spaced(kind).slice(1)}</span>
  );
}

/** Only who asks for it waits for tables. */
const NightList = lazy(() => import("./NightList").then(({ NightList: List }) => ({ default: List })));
const FIRST = 6;

/** Runs that the same cause has kept. */
function Others({ runs }: { runs: number[] }) {
  const links = runs.slice(0, FIRST).map((run) => (
    <Link key={run} className="in-text" to={`/runs/${run}`} style={{ marginRight: 6 }}>
      {run}
    </Link>
  ));
  return (
    <div className="dim">
      The same of {amount(runs.length, "other run")}: {links}
      {runs.length > FIRST && "…"}
    </div>
  );
}

function Needs({ night }: { night: Night }) {
  if (!night.needs.length) return <p className="calm">Nothing needs attention.</p>;
  const shown = night.needs.reduce((sum, need) => sum + 1 + need.others.length, 0);
  return (
    <>
      <ol className="needs">
        {night.needs.map((need) => (
          <li key={need.run}>
            <Kind kind={need.kind} />
            <div>
              <Link className="run-link" to={`/runs/${need.run}`}>
                {need.extract}
              </Link>{" "}
              <span className="dim">
                in {need.environment} for {need.data_date}
                {need.schedule ? `, ${need.schedule}` : ""}
              </span>
              <div className={need.kind === "failed" ? "said" : undefined}>{sentence(need.cause)}</div>
              {need.others.length > 0 && <Others runs={need.others} />}
              {need.hint && <div className="dim">{need.hint}</div>}
            </div>
          </li>
        ))}
      </ol>
      {night.needing > shown && (
        <p className="dim">
          and {count(night.needing - shown)} more:{" "}
          <Link className="in-text" to="/runs">
            all runs
          </Link>
        </p>
      )}
    </>
  );
}

function Next({ night }: { night: Night }) {
  if (!night.next.length)
    return (
      <p className="dim">
        No schedule is due.{" "}
        <Link className="in-text" to="/schedules">
          Make one
        </Link>
      </p>
    );
  return (
    <table className="coming">
      <tbody>
        {night.next.map((due) => (
          <tr key={due.schedule}>
            <td className="n">{moment(due.due_at)}</td>
            <td>
              <Link to={`/schedules/${due.schedule}`}>{due.schedule}</Link>
            </td>
            <td className="dim">
              {due.extract} in {due.environment}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const dayAfter = (date: string, days: number) =>
  new Date(Date.parse(`${date}T12:00:00Z`) + days * 86_400_000).toISOString().slice(0, 10);

/** Where a morning begins: how the night went, what needs attention first, what is next; and every night before. */
export function NightPage() {
  const [at, set] = useAddress({ date: "", view: "strip" });
  const found = useQuery({
    queryKey: ["night", at.date],
    queryFn: () => must(api.GET("/api/v1/last-night", { params: { query: at.date ? { date: at.date } : {} } })),
    refetchInterval: (q) => (q.state.data?.is_over ? false : 10_000),
    placeholderData: (before) => before,
  });
  const status = useQuery({
    queryKey: ["status"],
    queryFn: () => must(api.GET("/api/v1/status")),
    refetchInterval: 10_000,
  });
  const night = found.data;
  return (
    <div className="page">
      <header className="head">
        <h1>{night?.is_over ? `Night to ${night.date}` : "Last night"}</h1>
        {night && (
          <p>
            {night.is_over ? `${moment(night.since)} to ${moment(night.until)}` : `Since ${moment(night.since)}`}:{" "}
            {night.sentence}
          </p>
        )}
        <div className="grow" />
        {night && (
          <>
            <Button size="small" onClick={() => set({ date: dayAfter(night.date, -1) })}>
              Night before
            </Button>
            <Button size="small" disabled={!night.is_over} onClick={() => set({ date: dayAfter(night.date, 1) })}>
              Night after
            </Button>
            {night.is_over && (
              <Button size="small" onClick={() => set({ date: "" })}>
                Last night
              </Button>
            )}
          </>
        )}
      </header>
      <NoWorkerNote status={status.data} />
      <ProblemNote error={found.error} />
      {night && (
        <>
          <h2>
            {night.needing
              ? `${count(night.needing)} ${night.needing === 1 ? "needs" : "need"} attention`
              : "All is well"}
          </h2>
          <Needs night={night} />
          {night.runs.length > 0 && (
            <div className="filters">
              <h2 style={{ margin: 0 }}>Runs</h2>
              <Segmented
                size="small"
                aria-label="Show the runs as"
                value={at.view}
                onChange={(view) => set({ view }, true)}
                options={[
                  { value: "strip", label: "Strip" },
                  { value: "list", label: "List" },
                ]}
              />
            </div>
          )}
          {at.view === "list" && night.runs.length > 0 ? (
            <Suspense fallback={<Waiting what="the list" />}>
              <NightList runs={night.runs} />
            </Suspense>
          ) : (
            <NightStrip
              key={night.since}
              runs={night.runs}
              from={Date.parse(night.since)}
              until={Date.parse(night.until)}
            />
          )}
          {!night.is_over && (
            <>
              <h2>Next</h2>
              <Next night={night} />
            </>
          )}
        </>
      )}
    </div>
  );
}
