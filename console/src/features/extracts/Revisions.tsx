import { useState } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Select } from "antd";
import { api, must, type Extract } from "../../api/client";
import { DifferenceView } from "../../components/DifferenceView";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { moment } from "../../lib/words";
import { useMe } from "../session/useMe";

const shown = (value: unknown): string =>
  value === null || value === undefined ? "∅" : typeof value === "string" ? value || '""' : JSON.stringify(value);

/** What differs between two revisions: settings, then the statement line by line. */
function Compared({ name, before, after }: { name: string; before: number; after: number }) {
  const query = useQuery({
    queryKey: ["differences", name, before, after],
    queryFn: () =>
      must(api.GET("/api/v1/extracts/{name}/differences", { params: { path: { name }, query: { before, after } } })),
  });
  const found = query.data;
  if (!found) return <ProblemNote error={query.error} />;
  return (
    <section aria-label={`Revision ${before} beside ${after}`}>
      <p className="dim">
        − revision {before} by {found.before.author}, {moment(found.before.saved_at)} · + revision {after} by{" "}
        {found.after.author}, {moment(found.after.saved_at)}
      </p>
      {found.settings.length > 0 && (
        <table className="files" style={{ marginBottom: 8 }}>
          <thead>
            <tr>
              <th>Setting</th>
              <th>Revision {before}</th>
              <th>Revision {after}</th>
            </tr>
          </thead>
          <tbody>
            {found.settings.map((s) => (
              <tr key={s.field}>
                <td>{s.field}</td>
                <td className="mono">{shown(s.before)}</td>
                <td className="mono">{shown(s.after)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <DifferenceView lines={found.statement} label="The statement" />
    </section>
  );
}

export function Revisions({ extract }: { extract: Extract }) {
  const client = useQueryClient();
  const { modal, message } = App.useApp();
  const { may } = useMe();
  const newest = extract.revision.number;
  const [pair, setPair] = useState<[number, number]>([Math.max(newest - 1, 1), newest]);
  const list = useQuery({
    queryKey: ["revisions", extract.name, newest],
    queryFn: () => must(api.GET("/api/v1/extracts/{name}/revisions", { params: { path: { name: extract.name } } })),
  });
  const restore = useMutation({
    mutationFn: (revision: number) =>
      must(
        api.POST("/api/v1/extracts/{name}/restore", { params: { path: { name: extract.name } }, body: { revision } }),
      ),
    onSuccess: (saved) => {
      void message.success(`Now revision ${saved.revision.number}.`);
      void client.invalidateQueries();
    },
  });
  const ask = (number: number) =>
    modal.confirm({
      title: `Make revision ${number} the newest?`,
      content: "It becomes a new revision; nothing is lost.",
      okText: "Restore",
      onOk: () => restore.mutateAsync(number),
    });
  const options = (list.data ?? []).map((r) => ({ value: r.number, label: `revision ${r.number}` }));
  return (
    <>
      {newest > 1 && may("author") && (
        <>
          <div className="filters">
            <span>Compare</span>
            <Select
              size="small"
              aria-label="Earlier revision"
              style={{ width: 120 }}
              value={pair[0]}
              onChange={(n: number) => setPair([n, pair[1]])}
              options={options}
            />
            <span>with</span>
            <Select
              size="small"
              aria-label="Later revision"
              style={{ width: 120 }}
              value={pair[1]}
              onChange={(n: number) => setPair([pair[0], n])}
              options={options}
            />
          </div>
          <Compared name={extract.name} before={pair[0]} after={pair[1]} />
        </>
      )}
      <RecordTable
        rows={list.data}
        rowKey="number"
        style={{ marginTop: 12 }}
        expandable={{
          rowExpandable: () => may("author"),
          expandedRowRender: (r) => (
            <pre className="mono" tabIndex={0}>
              {r.statement}
            </pre>
          ),
        }}
        columns={[
          { title: "Revision", dataIndex: "number", width: 90, align: "right" },
          { title: "Saved", key: "at", width: 150, render: (_, r) => moment(r.saved_at) },
          { title: "Author", dataIndex: "author", width: 120 },
          { title: "Change", dataIndex: "change_note" },
          {
            title: <span className="sr">Restore</span>,
            key: "do",
            width: 110,
            render: (_, r) =>
              may("author") &&
              r.number !== newest && (
                <Button size="small" onClick={() => void ask(r.number)}>
                  Restore
                </Button>
              ),
          },
        ]}
      />
    </>
  );
}
