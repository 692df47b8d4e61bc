import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, must, type Night } from "../../api/client";
import { NoWorkerNote } from "../../components/NoWorkerNote";
import { ProblemNote } from "../../components/ProblemNote";
import { StateMark } from "../../components/StateMark";
import { amount, count, moment, spaced } from "../../lib/words";
import { NightStrip } from "./NightStrip";
import "../runs/runs.css";
import "./night.css";

type Need = Night["needs"][number];

/** What is wrong with a run, by shape and word. */
function Kind({ kind }: { kind: Need["kind"] }) {
  return kind === "failed" || kind === "not_run" ? <StateMark state={kind} /> : <span className={`kind ${kind}`}>{kind.charAt(0).toUpperCase() + spaced(kind).slice(1)}</span>;
}

const FIRST = 6;

/** Runs that the same cause has kept. */
function Others({ runs }: { runs: number[] }) {
  const links = runs.slice(0, FIRST).map((run) => <Link key={run} className="in-text" to={`/runs/${run}`} style={{ marginRight: 6 }}>{run}</Link>);
  return <div className="dim">The same of {amount(runs.length, "other run")}: {links}{runs.length > FIRST && "…"}</div>;
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
              <Link className="run-link" to={`/runs/${need.run}`}>{need.extract}</Link> <span className="dim">in {need.environment} for {need.data_date}{need.schedule ? `, ${need.schedule}` : ""}</span>
              <div className={need.kind === "failed" ? "said" : undefined}>{need.cause}</div>
              {need.others.length > 0 && <Others runs={need.others} />}
              {need.hint && <div className="dim">{need.hint}</div>}
            </div>
          </li>
        ))}
      </ol>
      {night.needing > shown && <p className="dim">and {count(night.needing - shown)} more: <Link className="in-text" to="/runs">all runs</Link></p>}
    </>
  );
}

function Next({ night }: { night: Night }) {
  if (!night.next.length) return <p className="dim">No schedule is due. <Link className="in-text" to="/schedules">Make one</Link></p>;
  return (
    <table className="coming">
      <tbody>
        {night.next.map((due) => (
          <tr key={due.schedule}><td className="n">{moment(due.due_at)}</td><td><Link to={`/schedules?search=${encodeURIComponent(due.schedule)}`}>{due.schedule}</Link></td><td className="dim">{due.extract} in {due.environment}</td></tr>
        ))}
      </tbody>
    </table>
  );
}

/** Where a morning begins: how the night went, what needs attention first, what is next. */
export function NightPage() {
  const found = useQuery({ queryKey: ["night"], queryFn: () => must(api.GET("/api/v1/last-night")), refetchInterval: 10_000 });
  const status = useQuery({ queryKey: ["status"], queryFn: () => must(api.GET("/api/v1/status")), refetchInterval: 10_000 });
  const night = found.data;
  return (
    <div className="page">
      <header className="head">
        <h1>Last night</h1>
        {night && <p>Since {moment(night.since)}: {night.sentence}</p>}
      </header>
      <NoWorkerNote status={status.data} />
      <ProblemNote error={found.error} />
      {night && (
        <>
          <NightStrip runs={night.runs} from={Date.parse(night.since)} now={Date.parse(night.until)} />
          <h2>{night.needing ? `${count(night.needing)} ${night.needing === 1 ? "needs" : "need"} attention` : "All is well"}</h2>
          <Needs night={night} />
          <h2>Next</h2>
          <Next night={night} />
        </>
      )}
    </div>
  );
}
