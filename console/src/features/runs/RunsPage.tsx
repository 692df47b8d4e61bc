import { useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { Link } from "react-router";
import { api, must, type RunState } from "../../api/client";
import { NoWorkerNote } from "../../components/NoWorkerNote";
import { ProblemNote } from "../../components/ProblemNote";
import { stateClass, stateWord } from "../../components/StateMark";
import { useAddress } from "../../lib/useAddress";
import { moment, spaced } from "../../lib/words";
import { RunsTable } from "./RunsTable";
import { useRuns } from "./useRuns";
import "./runs.css";

const order: RunState[] = ["failed", "not_run", "running", "waiting", "queued", "finished", "cancelled"];

export function RunsPage() {
  const [at, set] = useAddress({ state: "", backfill: "" });
  const only = order.find((state) => state === at.state) ?? null;
  const backfill = Number(at.backfill) || undefined;
  const { items: runs, error, isPending, hasNextPage, fetchNextPage } = useRuns({ state: only, backfill });
  const status = useQuery({
    queryKey: ["status"],
    queryFn: () => must(api.GET("/api/v1/status")),
    refetchInterval: 5_000,
  });
  return (
    <div className="page">
      <header className="head">
        <h1>Runs</h1>
        <p>
          {status.data?.next_due_at ? `Next: ${status.data.next_schedule}, ${moment(status.data.next_due_at)}` : ""}
        </p>
        <div className="grow" />
        <Link to="/extracts">
          <Button type="primary" tabIndex={-1}>
            Run an extract
          </Button>
        </Link>
      </header>
      <div className="counts" role="group" aria-label="Runs of the last day, by state">
        {order.map((state) => (
          <button
            key={state}
            type="button"
            className={stateClass(state)}
            aria-pressed={only === state}
            onClick={() => set({ state: only === state ? "" : state })}
          >
            <strong>{status.data?.counts[state] ?? 0}</strong> {stateWord[state].toLowerCase()}
          </button>
        ))}
      </div>
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
        more={hasNextPage ? () => void fetchNextPage() : undefined}
        hollow={
          only ? (
            <p>No run is {spaced(only)}.</p>
          ) : (
            <>
              <p>Nothing has run yet.</p>
              <Link to="/extracts">Choose an extract and run it</Link>
            </>
          )
        }
      />
    </div>
  );
}
