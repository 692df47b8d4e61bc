import { useCallback, useEffect, useRef, useState } from "react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { api, must, type SourceQuery, type SourceQueryBody } from "../../api/client";

const look = (source: string) => (body: SourceQueryBody) =>
  must(api.POST("/api/v1/sources/{name}/queries", { params: { path: { name: source } }, body }));

const FIRST_MS = 30;
const LONGEST_MS = 300;
/** Between looks at a query: soon at first, as most are over at once. */
const pause = (looks: number) => Math.min(FIRST_MS * 1.5 ** looks, LONGEST_MS);
const live = (found: SourceQuery | undefined) => found?.state === "waiting" || found?.state === "running";

/** Asks a source something, follows it to its end, and cancels it when it is left or asked anew. */
export function useSourceQuery(source: string) {
  return useStarted(look(source));
}

/** The same for a query that is started in another way. */
export function useStarted<Body>(begin: (body: Body) => Promise<SourceQuery>) {
  const [id, setId] = useState<string | null>(null);
  const running = useRef<string | null>(null);
  const stop = useCallback(
    (number: string) =>
      void api.POST("/api/v1/queries/{number}/cancel", { params: { path: { number } } }).catch(() => undefined),
    [],
  );
  const start = useMutation({
    mutationFn: (body: Body) => {
      if (running.current) stop(running.current);
      return begin(body);
    },
    onSuccess: (found) => {
      running.current = found.id;
      setId(found.id);
    },
    onError: () => setId(null),
  });
  const poll = useQuery({
    queryKey: ["source-query", id],
    enabled: id !== null,
    staleTime: Infinity,
    queryFn: () => must(api.GET("/api/v1/queries/{number}", { params: { path: { number: id! } } })),
    refetchInterval: (q) => (q.state.data === undefined || live(q.state.data) ? pause(q.state.dataUpdateCount) : false),
  });
  const found = poll.data;
  useEffect(() => {
    if (found && !live(found) && running.current === found.id) running.current = null;
  }, [found]);
  useEffect(
    () => () => {
      if (running.current) stop(running.current);
    },
    [stop],
  );
  const busy = start.isPending || (id !== null && (found === undefined || live(found)));
  return {
    ask: start.mutate,
    found: busy ? undefined : found,
    busy,
    error: start.error ?? poll.error,
    cancel: () => running.current && stop(running.current),
  };
}
