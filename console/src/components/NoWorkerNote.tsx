import type { Status } from "../api/client";
import { ProblemNote } from "./ProblemNote";

/** Said where runs would be waited for in vain. */
export function NoWorkerNote({ status }: { status: Status | undefined }) {
  if (!status) return null;
  if (status.nothing_runs.length)
    return (
      <ProblemNote
        error={
          new Error(`Nothing runs: ${status.nothing_runs.join("; ")}. Look at the service's log, or start it again.`)
        }
      />
    );
  return (
    status.workers === 0 && <ProblemNote error={new Error("No worker is there: queued runs wait until one starts.")} />
  );
}
