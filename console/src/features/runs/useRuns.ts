import { useInfiniteQuery } from "@tanstack/react-query";
import { api, following, must, type RunState } from "../../api/client";
import { live } from "../../components/StateMark";

const LIVE_MS = 2_000;
const CALM_MS = 15_000;

/** Runs, newest first, page by page; looked at every two seconds while something is live. */
export function useRuns(filter: { extract?: string; state?: RunState | null }) {
  const query = useInfiniteQuery({
    queryKey: ["runs", filter],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      must(api.GET("/api/v1/runs", { params: { query: { page_size: 50, extract: filter.extract, state: filter.state ?? undefined, cursor: pageParam || undefined } } })),
    getNextPageParam: following,
    refetchInterval: (q) => (q.state.data?.pages.some((p) => p.results.some((r) => live(r.state))) ? LIVE_MS : CALM_MS),
  });
  return { ...query, runs: query.data?.pages.flatMap((page) => page.results) ?? [] };
}
