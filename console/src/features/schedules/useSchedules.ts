import { useInfiniteQuery } from "@tanstack/react-query";
import { api, following, must } from "../../api/client";

/** Schedules by name, page by page; those that the text is in, or in what they run. */
export function useSchedules(search: string) {
  const query = useInfiniteQuery({
    queryKey: ["schedules", search],
    initialPageParam: "",
    queryFn: ({ pageParam }) => must(api.GET("/api/v1/schedules", { params: { query: { search: search || undefined, cursor: pageParam || undefined } } })),
    getNextPageParam: following,
    refetchInterval: 15_000,
    placeholderData: (before) => before,
  });
  return { ...query, schedules: query.data?.pages.flatMap((page) => page.results) ?? [] };
}
