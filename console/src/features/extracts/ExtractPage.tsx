import { useEffect, useState } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Input, Table, Tabs } from "antd";
import { Link, useParams } from "react-router";
import { api, must, Problem, type Extract } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { StatementView } from "../../components/StatementView";
import { moment } from "../../lib/words";
import { RunsTable } from "../runs/RunsTable";
import { useRuns } from "../runs/useRuns";
import { useMe } from "../session/useMe";
import { RunForm } from "./RunForm";
import "../runs/runs.css";

/** The statement being edited, with the parameter declarations as JSON; unsaved text survives a reload. */
function Editor({ extract, engine }: { extract: Extract; engine: string }) {
  const revision = extract.revision;
  const key = `unsaved:${extract.name}:${revision.number}`;
  const client = useQueryClient();
  const { message } = App.useApp();
  const { may } = useMe();
  const declared = JSON.stringify(revision.parameters, null, 2);
  const [text, setText] = useState(() => sessionStorage.getItem(key) ?? revision.statement);
  const [parameters, setParameters] = useState(declared);
  const [note, setNote] = useState("");
  const changed = text !== revision.statement || parameters !== declared;
  useEffect(() => {
    if (text === revision.statement) sessionStorage.removeItem(key);
    else sessionStorage.setItem(key, text);
  }, [key, text, revision.statement]);
  const save = useMutation({
    mutationFn: async () => {
      let list: Record<string, unknown>[];
      try {
        list = JSON.parse(parameters) as Record<string, unknown>[];
      } catch (error) {
        throw new Problem(400, { message: `The parameters are not JSON: ${(error as Error).message}.`, hint: 'Write a list: [{"name": "since", "type": "date"}].' });
      }
      return must(api.PATCH("/api/v1/extracts/{name}", {
        params: { path: { name: extract.name } },
        headers: { "If-Match": `"${revision.number}"` },
        body: { statement: text, parameters: list, change_note: note },
      }));
    },
    onSuccess: (saved) => {
      sessionStorage.removeItem(key);
      void message.success(`Saved as revision ${saved.revision.number}.`);
      void client.invalidateQueries();
    },
  });
  const writable = may("author") && !extract.archived_at;
  return (
    <>
      <StatementView text={text} engine={engine} label="Statement" {...(writable ? { onChange: setText, onSave: () => changed && save.mutate() } : {})} />
      <ProblemNote error={save.error} />
      {writable && (
        <>
          <details className="dim" style={{ margin: "8px 0" }}>
            <summary>Parameters, as JSON</summary>
            <Input.TextArea aria-label="Parameters, as JSON" className="mono" autoSize={{ minRows: 4, maxRows: 16 }} value={parameters} onChange={(e) => setParameters(e.target.value)} />
          </details>
          <div className="filters">
            <Input aria-label="What this save changes" placeholder="What this save changes" value={note} onChange={(e) => setNote(e.target.value)} style={{ maxWidth: 360 }} />
            <Button disabled={!changed} loading={save.isPending} onClick={() => save.mutate()}>Save revision</Button>
            {changed && <Button type="text" onClick={() => { setText(revision.statement); setParameters(declared); }}>Undo changes</Button>}
          </div>
        </>
      )}
    </>
  );
}

function Revisions({ extract }: { extract: Extract }) {
  const client = useQueryClient();
  const { modal, message } = App.useApp();
  const { may } = useMe();
  const list = useQuery({ queryKey: ["revisions", extract.name, extract.revision.number], queryFn: () => must(api.GET("/api/v1/extracts/{name}/revisions", { params: { path: { name: extract.name } } })) });
  const restore = useMutation({
    mutationFn: (revision: number) => must(api.POST("/api/v1/extracts/{name}/restore", { params: { path: { name: extract.name } }, body: { revision } })),
    onSuccess: (saved) => { void message.success(`Now revision ${saved.revision.number}.`); void client.invalidateQueries(); },
  });
  const ask = (number: number) => modal.confirm({ title: `Make revision ${number} the newest?`, content: "It becomes a new revision; nothing is lost.", okText: "Restore", onOk: () => restore.mutateAsync(number) });
  return (
    <Table
      size="small" rowKey="number" dataSource={list.data ?? []} pagination={false} loading={list.isPending}
      expandable={{ expandedRowRender: (r) => <pre className="mono" tabIndex={0}>{r.statement}</pre> }}
      columns={[
        { title: "Revision", dataIndex: "number", width: 90, align: "right" },
        { title: "Saved", key: "at", width: 150, render: (_, r) => moment(r.saved_at) },
        { title: "Author", dataIndex: "author", width: 120 },
        { title: "Change", dataIndex: "change_note" },
        { title: <span className="sr">Restore</span>, key: "do", width: 110, render: (_, r) => may("author") && r.number !== extract.revision.number && <Button size="small" onClick={() => void ask(r.number)}>Restore</Button> },
      ]}
    />
  );
}

function OwnRuns({ name }: { name: string }) {
  const { runs, isPending, hasNextPage, fetchNextPage } = useRuns({ extract: name });
  return <RunsTable extract={false} runs={runs} loading={isPending} more={hasNextPage ? () => void fetchNextPage() : undefined} hollow={<p>This extract has not run yet.</p>} />;
}

export function ExtractPage() {
  const name = useParams().name!;
  const client = useQueryClient();
  const { modal } = App.useApp();
  const { may } = useMe();
  const query = useQuery({ queryKey: ["extract", name], queryFn: () => must(api.GET("/api/v1/extracts/{name}", { params: { path: { name } } })) });
  const sources = useQuery({ queryKey: ["sources"], queryFn: () => must(api.GET("/api/v1/sources")) });
  const archive = useMutation({
    mutationFn: (back: boolean) => must(back ? api.POST("/api/v1/extracts/{name}/restore", { params: { path: { name } }, body: {} }) : api.POST("/api/v1/extracts/{name}/archive", { params: { path: { name } } })),
    onSuccess: () => client.invalidateQueries(),
  });
  const extract = query.data;
  if (!extract) return <div className="page"><ProblemNote error={query.error} /></div>;
  const revision = extract.revision;
  const source = sources.data?.find((s) => s.name === revision.source);
  const engine = source?.engine ?? "postgresql";
  const put = () => modal.confirm({ title: `Archive ${name}?`, content: "Nothing runs it until it is restored.", okText: "Archive", onOk: () => archive.mutateAsync(false) });
  return (
    <div className="page">
      <header className="head">
        <h1>{extract.name}</h1>
        <p>{extract.folder}{extract.archived_at && " (archived)"}</p>
        <p>revision {revision.number} by {revision.author}, {moment(revision.saved_at)}, on <Link to={`/sources/${revision.source}`}>{revision.source}</Link></p>
        <div className="grow" />
        {may("author") && (extract.archived_at ? <Button onClick={() => archive.mutate(true)}>Restore</Button> : <Button onClick={() => void put()}>Archive</Button>)}
      </header>
      {revision.notes && <p style={{ margin: "0 0 10px" }}>{revision.notes}</p>}
      <ProblemNote error={archive.error ?? query.error} />
      <div className="cards" style={{ gridTemplateColumns: "minmax(0, 1fr) 320px" }}>
        <Tabs items={[
          { key: "statement", label: "Statement", children: <Editor key={`${name}-${revision.number}`} extract={extract} engine={engine} /> },
          { key: "runs", label: "Runs", children: <OwnRuns name={name} /> },
          { key: "revisions", label: "Revisions", children: <Revisions extract={extract} /> },
        ]} />
        {may("runner") && !extract.archived_at && <section className="card"><h2 style={{ marginTop: 0 }}>Run now</h2><RunForm extract={extract} source={source} /></section>}
      </div>
    </div>
  );
}
