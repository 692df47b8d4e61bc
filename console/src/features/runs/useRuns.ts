import { api, must, type RunState } from "../../api/client";
import { usePages } from "../../api/usePages";
import { live } from "../../components/StateMark";

const LIVE_MS = 2_000;
const CALM_MS = 15_000;

/** Runs, newest first, page by page; looked at every two seconds while something is live. */
export function useRuns(filter: { extract?: string; state?: RunState | null; backfill?: number }) {
  return usePages(
    ["runs", filter],
    (cursor) =>
      must(
        api.GET("/api/v1/runs", {
          params: {
            query: {
              page_size: 50,
              extract: filter.extract,
              state: filter.state ?? undefined,
              backfill: filter.backfill,
              cursor,
            },
          },
        }),
      ),
    (runs) => (runs.some((run) => live(run.state)) ? LIVE_MS : CALM_MS),
  );
}
