import { ProblemNote } from "./ProblemNote";

/** Said where runs would be waited for in vain. */
export function NoWorkerNote({ workers }: { workers: number | undefined }) {
  return workers === 0 && <ProblemNote error={new Error("No worker is there: queued runs wait until one starts.")} />;
}
