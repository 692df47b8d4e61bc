import { useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { Link } from "react-router";
import { api, must, type RunState } from "../../api/client";
import { Narrowing } from "../../components/Narrowing";
import { NoWorkerNote } from "../../components/NoWorkerNote";
import { ProblemNote } from "../../components/ProblemNote";
import { stateClass, stateWord } from "../../components/StateMark";
import { useAddress } from "../../lib/useAddress";
import { askedFor } from "../../lib/sorting";
import { beginOf, moment, titled } from "../../lib/words";
import { useMe } from "../session/useMe";
import { RunsTable } from "./RunsTable";
import { useRuns } from "./useRuns";
import "./runs.css";

const order: RunState[] = ["failed", "not_run", "running", "waiting", "queued", "finished", "cancelled"];
const MARKS = ["held", "rejected", "released", "late", "warned", "empty", "not_delivered", "published"];
const CHOICES = [...order, ...MARKS].map((value) => ({ value, label: titled(value) }));
const USUAL = { search: "", state: "", environment: "", schedule: "", from: "", to: "", backfill: "", sort: "" };

export function RunsPage() {
  const { may } = useMe();
  const [at, set] = useAddress(USUAL);
  const backfill = Number(at.backfill) || undefined;
  const {
    items: runs,
    error,
    isPending,
    hasNextPage,
    fetchNextPage,
  } = useRuns({
    state: at.state || undefined,
    search: at.search.trim() || undefined,
    environment: at.environment || undefined,
    schedule: at.schedule || undefined,
    since: beginOf(at.from),
    until: beginOf(at.to, 1),
    backfill,
    ...askedFor(at.sort),
  });
  const status = useQuery({
    queryKey: ["status"],
    queryFn: () => must(api.GET("/api/v1/status")),
    refetchInterval: 5_000,
  });
  const narrowed = Object.entries(at).some(([key, value]) => key !== "sort" && value);
  return (
    <div className="page">
      <header className="head">
        <h1>Runs</h1>
        <p>
          {status.data?.next_due_at ? `Next: ${status.data.next_schedule}, ${moment(status.data.next_due_at)}` : ""}
        </p>
        <div className="grow" />
        {may("runner") && (
          <Link to="/extracts">
            <Button type="primary" tabIndex={-1}>
              Run an extract
            </Button>
          </Link>
        )}
      </header>
      <div className="counts" role="group" aria-label="Runs of the last day, by state">
        {order.map((state) => (
          <button
            key={state}
            type="button"
            className={stateClass(state)}
            aria-pressed={at.state === state}
            onClick={() => set({ state: at.state === state ? "" : state })}
          >
            <strong>{status.data?.counts[state] ?? 0}</strong> {stateWord[state].toLowerCase()}
          </button>
        ))}
      </div>
      <Narrowing
        at={at}
        set={set}
        search="Words in names and folders of extracts"
        choices={[{ key: "state", label: "State", options: CHOICES }]}
        environment
        days={["from", "to"]}
      />
      {at.schedule && (
        <p>
          Runs that{" "}
          <Link className="in-text" to={`/schedules/${at.schedule}`}>
            {at.schedule}
          </Link>{" "}
          started.{" "}
          <Link className="in-text" to="/runs">
            All runs
          </Link>
        </p>
      )}
      {backfill && (
        <p>
          Runs of backfill {backfill}.{" "}
          <Link className="in-text" to="/runs">
            All runs
          </Link>
        </p>
      )}
      <NoWorkerNote status={status.data} />
      <ProblemNote error={error} />
      <RunsTable
        runs={runs}
        loading={isPending}
        sort={at.sort}
        onSort={(sort) => set({ sort })}
        more={hasNextPage ? () => void fetchNextPage() : undefined}
        hollow={
          narrowed ? (
            <p>No run is like that. Say less of it, or show all.</p>
          ) : (
            <>
              <p>Nothing has run yet.</p>
              {may("runner") && <Link to="/extracts">Choose an extract and run it</Link>}
            </>
          )
        }
      />
    </div>
  );
}
