import type { ReactNode } from "react";
import type { RunState } from "../api/client";
import "./state.css";

export const stateWord: Record<RunState, string> = {
  waiting: "Waiting",
  queued: "Queued",
  running: "Running",
  finished: "Finished",
  failed: "Failed",
  cancelled: "Cancelled",
  not_run: "Not run",
};

const shape: Record<RunState, ReactNode> = {
  failed: <path d="M3 3l8 8M11 3l-8 8" />,
  running: <path d="M4 2.5l7 4.5-7 4.5z" fill="currentColor" />,
  waiting: <path d="M4 2.5v9M10 2.5v9" />,
  queued: <circle cx="7" cy="7" r="4.2" />,
  finished: <path d="M2.5 7.5l3 3 6-7" />,
  cancelled: <path d="M3 7h8" />,
  not_run: <path d="M3 3l8 8M2.8 7a4.2 4.2 0 1 0 8.4 0a4.2 4.2 0 1 0-8.4 0" />,
};

/** Whether the run still has something before it. */
export const live = (state: RunState | undefined): boolean =>
  state === "waiting" || state === "queued" || state === "running";

/** A name for style sheets. */
export const stateClass = (state: string): string => state.replaceAll("_", "-");

/** A run's state by shape, word and colour. */
export function StateMark({ state }: { state: RunState }) {
  return (
    <span className={`state ${stateClass(state)}`}>
      <svg
        viewBox="0 0 14 14"
        width="12"
        height="12"
        aria-hidden="true"
        fill="none"
        stroke="currentColor"
        strokeWidth="1.8"
        strokeLinecap="round"
      >
        {shape[state]}
      </svg>
      {stateWord[state]}
    </span>
  );
}
