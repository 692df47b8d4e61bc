import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, type TableColumnsType } from "antd";
import { api, must, type WorkerRecord } from "../../api/client";
import { NotYours } from "../../components/NotYours";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { moment } from "../../lib/words";
import { useMe } from "../session/useMe";

const ODD_SECONDS = 5;

/** Who carries runs out, and on which hosts. */
export function WorkersPage() {
  const client = useQueryClient();
  const { may } = useMe();
  const workers = useQuery({
    queryKey: ["workers"],
    queryFn: () => must(api.GET("/api/v1/workers")),
    refetchInterval: 5_000,
    enabled: may("author"),
  });
  const drain = useMutation({
    mutationFn: ({ id, draining }: WorkerRecord) =>
      must(
        api.POST("/api/v1/workers/{number}/drain", { params: { path: { number: id } }, body: { draining: !draining } }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ["workers"] }),
  });
  const columns: TableColumnsType<WorkerRecord> = [
    { title: "Host", dataIndex: "host", width: 200 },
    { title: "Process", dataIndex: "pid", width: 90, align: "right" },
    { title: "Runs", key: "runs", width: 100, align: "right", render: (_, w) => `${w.running} of ${w.max_runs}` },
    { title: "Since", key: "since", width: 150, render: (_, w) => moment(w.started_at) },
    { title: "Version", dataIndex: "version", width: 100 },
    {
      title: "Clock",
      key: "clock",
      render: (_, w) =>
        Math.abs(w.clock_seconds) > ODD_SECONDS ? (
          <span className="flag" style={{ margin: 0 }}>
            {w.clock_seconds.toFixed(1)} s off: set it right
          </span>
        ) : (
          "in sync"
        ),
    },
    {
      title: <span className="sr">Drain</span>,
      key: "do",
      width: 210,
      render: (_, w) => (
        <span style={{ display: "flex", gap: 8, alignItems: "center" }}>
          {w.draining && (
            <span className="flag" style={{ margin: 0 }}>
              {w.running ? "ends its runs" : "drained"}
            </span>
          )}
          {may("administrator") && (
            <Button
              size="small"
              aria-label={`${w.draining ? "Let it work" : "Drain"} ${w.id}`}
              onClick={() => drain.mutate(w)}
            >
              {w.draining ? "Let it work" : "Drain"}
            </Button>
          )}
        </span>
      ),
    },
  ];
  if (!may("author"))
    return <NotYours title="Workers">Workers are shown to authors, and looked after by administrators.</NotYours>;
  return (
    <div className="page">
      <header className="head">
        <h1>Workers</h1>
        <p>A worker that is drained takes no more runs; running ones finish.</p>
      </header>
      <ProblemNote error={workers.error ?? drain.error} />
      <RecordTable<WorkerRecord>
        rows={workers.data}
        rowKey="id"
        columns={columns}
        empty={
          <>
            <p>No worker is there: queued runs wait until one starts.</p>
            <p className="mono">ladle worker start</p>
          </>
        }
      />
    </div>
  );
}
