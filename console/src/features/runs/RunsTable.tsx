import { Button, Table, type TableColumnsType } from "antd";
import { Link } from "react-router";
import type { Run } from "../../api/client";
import { RunMark } from "../../components/RunMark";
import { count, moment, sentence, took } from "../../lib/words";

/** A delivery that goes on: waiting, or under way. */
export const delivering = (run: Run): boolean => run.delivery === "waiting" || run.delivery === "in_progress";

function Name({ run, extract }: { run: Run; extract: boolean }) {
  return (
    <>
      <Link className="run-link" to={`/runs/${run.id}`}>
        {extract ? run.extract : `Run ${run.id}`}
      </Link>
      {run.state === "waiting" && <div className="said">for {run.waits_for}</div>}
      {run.error && (run.state === "failed" || run.state === "not_run") && (
        <div className="said">{sentence(run.error.message)}</div>
      )}
    </>
  );
}

interface Props {
  runs: Run[];
  loading: boolean;
  more?: (() => void) | undefined;
  /** Show the extract's name; off on the extract's own page. */
  extract?: boolean;
  hollow: React.ReactNode;
}

export function RunsTable({ runs, loading, more, extract = true, hollow }: Props) {
  const columns: TableColumnsType<Run> = [
    {
      title: extract ? "Extract" : "Run",
      key: "name",
      width: 246,
      render: (_, run) => <Name run={run} extract={extract} />,
    },
    {
      title: "State",
      key: "state",
      width: 148,
      render: (_, run) => <RunMark run={run} />,
    },
    ...(extract ? [{ title: "Folder", dataIndex: "folder", width: 124, ellipsis: true }] : []),
    { title: "Environment", dataIndex: "environment", width: 94 },
    { title: "Data date", dataIndex: "data_date", width: 92 },
    { title: "Began", key: "began", width: 128, align: "right", render: (_, run) => moment(run.started_at) },
    { title: "Took", key: "took", width: 84, align: "right", render: (_, run) => took(run.started_at, run.ended_at) },
    { title: "Rows", key: "rows", width: 80, align: "right", render: (_, run) => count(run.rows) },
    { title: "Started by", key: "by", ellipsis: true, render: (_, run) => run.schedule ?? run.started_by },
  ];
  if (!runs.length && !loading) return <div className="hollow">{hollow}</div>;
  return (
    <>
      <Table<Run>
        size="small"
        rowKey="id"
        columns={columns}
        dataSource={runs}
        pagination={false}
        tableLayout="fixed"
        loading={loading}
        scroll={{ x: 1080 }}
        rowClassName={(run) => `row-${run.state}`}
        locale={{ emptyText: " " }}
      />
      {more && (
        <p>
          <Button onClick={more}>Earlier runs</Button>
        </p>
      )}
    </>
  );
}
