import type { Run } from "../api/client";
import { StateMark } from "./StateMark";

/** What a list knows of a run; the shorter ones know less. */
type Marked = Pick<Run, "state" | "late" | "held"> & Partial<Pick<Run, "warned" | "empty" | "delivery">>;

const DELIVERY: Partial<Record<string, string>> = {
  waiting: "not delivered yet",
  in_progress: "being delivered",
  failed: "not delivered",
  left: "left undelivered",
};

/** What is out of the ordinary about a run, in a word or two each. */
export const flagsOf = (run: Marked): string[] => [
  ...(["late", "warned", "empty"] as const).filter((flag) => run[flag]),
  ...(run.held ? [run.held] : []),
  ...(run.delivery && DELIVERY[run.delivery] ? [DELIVERY[run.delivery]!] : []),
];

/** The state of a run, and what a person should know beside it: the one look of it in every list. */
export function RunMark({ run }: { run: Marked }) {
  return (
    <>
      <StateMark state={run.state} />
      {flagsOf(run).map((flag) => (
        <span className="flag" key={flag}>
          {flag}
        </span>
      ))}
    </>
  );
}
