import { Button, Table, type Breakpoint, type TableColumnsType } from "antd";
import { Link } from "react-router";
import type { Run } from "../../api/client";
import { reachable } from "../../components/reachable";
import { RunMark } from "../../components/RunMark";
import { arrowed, sortedByClick } from "../../lib/sorting";
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

const FOLDER: Breakpoint[] = ["xxl"];

interface Props {
  runs: Run[];
  loading: boolean;
  more?: (() => void) | undefined;
  /** Show the extract's name; off on the extract's own page. */
  extract?: boolean;
  /** How they are sorted, and what a click on a head asks for; not given: they come as they are. */
  sort?: string;
  onSort?: (sort: string) => void;
  hollow: React.ReactNode;
}

export function RunsTable({ runs, loading, more, extract = true, sort = "", onSort, hollow }: Props) {
  const sorter = !!onSort;
  const columns: TableColumnsType<Run> = [
    {
      title: extract ? "Extract" : "Run",
      key: extract ? "extract" : "id",
      sorter,
      width: 246,
      render: (_, run) => <Name run={run} extract={extract} />,
    },
    {
      title: "State",
      key: "state",
      sorter,
      width: 148,
      render: (_, run) => <RunMark run={run} />,
    },
    ...(extract ? [{ title: "Folder", dataIndex: "folder", width: 130, ellipsis: true, responsive: FOLDER }] : []),
    { title: "Environment", key: "environment", dataIndex: "environment", width: sorter ? 116 : 94, sorter },
    { title: "Data date", key: "data_date", dataIndex: "data_date", width: sorter ? 104 : 92, sorter },
    {
      title: "Began",
      key: "id",
      width: 128,
      align: "right",
      sorter: sorter && extract,
      render: (_, run) => moment(run.started_at),
    },
    {
      title: "Took",
      key: "took",
      width: 84,
      align: "right",
      sorter,
      render: (_, run) => took(run.started_at, run.ended_at),
    },
    { title: "Rows", key: "rows", width: 84, align: "right", sorter, render: (_, run) => count(run.rows) },
    { title: "Started by", key: "by", ellipsis: true, render: (_, run) => run.schedule ?? run.started_by },
  ];
  if (!runs.length && !loading) return <div className="hollow">{hollow}</div>;
  return (
    <>
      <Table<Run>
        size="small"
        rowKey="id"
        columns={arrowed(columns, sort)}
        dataSource={runs}
        pagination={false}
        tableLayout="fixed"
        onChange={(_page, _filters, changed) => onSort?.(sortedByClick(changed))}
        scroll={{ x: 1080 }}
        {...(runs.length ? {} : { components: reachable })} // while it loads it scrolls and holds nothing else
        rowClassName={(run) => `row-${run.state}`}
        locale={{ emptyText: " " }}
      />
      {more && (
        <p>
          <Button onClick={more}>{sort ? "More runs" : "Earlier runs"}</Button>
        </p>
      )}
    </>
  );
}
