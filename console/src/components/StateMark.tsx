import type { ReactNode } from "react";
import type { RunState } from "../api/client";
import "./state.css";

export const stateWord: Record<RunState, string> = {
  queued: "Queued", running: "Running", finished: "Finished", failed: "Failed", cancelled: "Cancelled",
};

const shape: Record<RunState, ReactNode> = {
  failed: <path d="M3 3l8 8M11 3l-8 8" />,
  running: <path d="M4 2.5l7 4.5-7 4.5z" fill="currentColor" />,
  queued: <circle cx="7" cy="7" r="4.2" />,
  finished: <path d="M2.5 7.5l3 3 6-7" />,
  cancelled: <path d="M3 7h8" />,
};

/** A run's state by shape, word and colour. */
export function StateMark({ state }: { state: RunState }) {
  return (
    <span className={`state ${state}`}>
      <svg viewBox="0 0 14 14" width="12" height="12" aria-hidden="true" fill="none" stroke="currentColor" strokeWidth="1.8" strokeLinecap="round">
        {shape[state]}
      </svg>
      {stateWord[state]}
    </span>
  );
}
