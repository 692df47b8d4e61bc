import { api, must } from "../../api/client";
import type { operations } from "../../api/schema";
import { usePages } from "../../api/usePages";
import { live } from "../../components/StateMark";

const LIVE_MS = 2_000;
const CALM_MS = 15_000;

type Asked = NonNullable<operations["runs"]["parameters"]["query"]>;
export type RunFilter = Partial<Record<keyof Asked, Asked[keyof Asked] | undefined>>;

/** Runs, newest first unless sorted, page by page; looked at every two seconds while something is live. What is there stays in
 * sight until the answer to another filter has come. */
export function useRuns(filter: RunFilter) {
  return usePages(
    ["runs", filter],
    (cursor) =>
      must(
        api.GET("/api/v1/runs", {
          params: { query: { page_size: 50, ...filter, cursor } as Asked },
        }),
      ),
    (runs) => (runs.some((run) => live(run.state)) ? LIVE_MS : CALM_MS),
    true,
  );
}
