import { useInfiniteQuery, type QueryKey } from "@tanstack/react-query";

interface Page<T> {
  results: T[];
  next: string | null;
}
const all = <T>(pages: Page<T>[] | undefined) => pages?.flatMap((page) => page.results) ?? [];

/** A list that comes page by page, as one: its ``items`` so far, ``fetchNextPage`` for more. ``every``: milliseconds between
 * looks; ``searched``: what was there stays in sight until the answer to another search is. */
export function usePages<T>(
  key: QueryKey,
  get: (cursor?: string) => Promise<Page<T>>,
  every: number | ((items: T[]) => number),
  searched = false,
) {
  const query = useInfiniteQuery({
    queryKey: key,
    initialPageParam: "",
    queryFn: ({ pageParam }) => get(pageParam || undefined),
    getNextPageParam: (page) => (page.next ? new URL(page.next).searchParams.get("cursor") : null),
    refetchInterval: typeof every === "number" ? every : (q) => every(all(q.state.data?.pages)),
    placeholderData: searched ? (before) => before : undefined,
  });
  return { ...query, items: all(query.data?.pages) };
}
