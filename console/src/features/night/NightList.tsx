import { Table } from "antd";
import { Link } from "react-router";
import type { Night } from "../../api/client";
import { RunMark } from "../../components/RunMark";
import { rank, shownState } from "../../lib/strip";
import { moment, took } from "../../lib/words";

/** The runs of the night for those who would rather read, the worst first. */
export function NightList({ runs }: { runs: Night["runs"] }) {
  const rows = [...runs].sort(
    (a, b) => rank(shownState(a)) - rank(shownState(b)) || (a.started_at! < b.started_at! ? -1 : 1),
  );
  return (
    <Table<Night["runs"][number]>
      size="small"
      rowKey="id"
      dataSource={rows}
      tableLayout="fixed"
      pagination={{ pageSize: 50, showSizeChanger: false, hideOnSinglePage: true }}
      columns={[
        {
          title: "Extract",
          key: "name",
          render: (_, run) => (
            <Link className="run-link" to={`/runs/${run.id}`}>
              {run.extract}
            </Link>
          ),
        },
        { title: "State", key: "state", width: 150, render: (_, run) => <RunMark run={run} /> },
        { title: "Folder", dataIndex: "folder", ellipsis: true, responsive: ["md"] },
        { title: "Began", key: "began", width: 132, align: "right", render: (_, run) => moment(run.started_at) },
        {
          title: "Took",
          key: "took",
          width: 90,
          align: "right",
          responsive: ["sm"],
          render: (_, run) => took(run.started_at, run.ended_at),
        },
      ]}
      locale={{ emptyText: <div className="hollow">Nothing ran in this night.</div> }}
    />
  );
}
