import { useEffect, useRef } from "react";
import { useQuery } from "@tanstack/react-query";
import { api, must } from "../../api/client";
import { clock } from "../../lib/words";

/** The run log, growing while the run is live. */
export function RunLog({ number, live }: { number: number; live: boolean }) {
  const box = useRef<HTMLPreElement>(null);
  const log = useQuery({
    queryKey: ["log", number],
    queryFn: async () => {
      const lines = [];
      for (let after = 0; ;) {
        const part = await must(
          api.GET("/api/v1/runs/{number}/log", { params: { path: { number }, query: { after } } }),
        );
        lines.push(...part.lines);
        if (part.next === after || part.lines.length === 0) return lines;
        after = part.next;
      }
    },
    refetchInterval: live ? 1_000 : false,
  });
  const { refetch } = log;
  useEffect(() => {
    if (!live) void refetch();
  }, [live, refetch]);
  useEffect(() => {
    box.current?.scrollTo(0, box.current.scrollHeight);
  }, [log.data?.length]);
  return (
    <pre ref={box} className="log" tabIndex={0} role="log" aria-label="Run log">
      {(log.data ?? []).map((line) => (
        <div key={line.id} className={line.level}>
          <time dateTime={line.at}>{clock(line.at)}</time> <i>{line.stage.padEnd(9)}</i>
          {line.level === "info" ? "" : `${line.level}: `}
          {line.text}
        </div>
      ))}
    </pre>
  );
}
