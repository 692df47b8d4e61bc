import { useState } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button } from "antd";
import { api, must, type Source } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { moment } from "../../lib/words";
import { useMe } from "../session/useMe";
import { SourceForm } from "./SourceForm";
import "../runs/runs.css";

const where = (address: Record<string, string>) => address.path ?? `${address.user}@${address.host}:${address.port}/${address.database}`;

function AddressRow({ address }: { address: Source["addresses"][number] }) {
  const failed = address.last_check?.find((step) => !step.passed);
  return (
    <tr>
      <td>{address.environment}</td>
      <td className="mono">{where(address.address)}</td>
      <td>
        {!address.last_check && <span className="dim">not checked yet</span>}
        {address.last_check && !failed && <span style={{ color: "var(--pl-doneInk)" }}>{address.last_check.map((s) => `${s.step} ${s.seconds.toFixed(2)} s`).join(" · ")}</span>}
        {failed && <><span className="said">{failed.step}: {failed.detail}</span><div>{failed.hint}</div></>}
      </td>
      <td>{moment(address.last_check_at)}</td>
    </tr>
  );
}

export function SourcesPage() {
  const [editing, setEditing] = useState<Source | "new" | null>(null);
  const client = useQueryClient();
  const { modal } = App.useApp();
  const { may } = useMe();
  const query = useQuery({ queryKey: ["sources"], queryFn: () => must(api.GET("/api/v1/sources")) });
  const renew = () => client.invalidateQueries({ queryKey: ["sources"] });
  const check = useMutation({ mutationFn: (name: string) => must(api.POST("/api/v1/sources/{name}/check", { params: { path: { name } } })), onSuccess: renew });
  const remove = useMutation({ mutationFn: (name: string) => must(api.DELETE("/api/v1/sources/{name}", { params: { path: { name } } })), onSuccess: renew });
  const ask = (name: string) => modal.confirm({ title: `Remove ${name}?`, content: "Its addresses and passwords go with it.", okText: "Remove", onOk: () => remove.mutateAsync(name).catch(() => undefined) });
  const found = query.data ?? [];
  return (
    <div className="page">
      <header className="head">
        <h1>Sources</h1>
        <p>{found.length} sources; extracts only ever read them.</p>
        <div className="grow" />
        {may("administrator") && <Button type="primary" onClick={() => setEditing("new")}>Add source</Button>}
      </header>
      <ProblemNote error={query.error ?? check.error ?? remove.error} />
      {query.data && !found.length && <div className="card hollow"><p>There are no sources yet.</p>{may("administrator") && <Button onClick={() => setEditing("new")}>Add the first one</Button>}</div>}
      {found.map((source) => (
        <section className="card" key={source.name} style={{ marginBottom: 14 }} aria-label={source.name}>
          <header className="head">
            <h2 style={{ margin: 0 }}>{source.name}</h2>
            <p>{source.engine}, {source.places} runs at once, {source.deadline_seconds} s a statement. {source.note}</p>
            <div className="grow" />
            {may("author") && <Button size="small" aria-label={`Check ${source.name}`} loading={check.isPending && check.variables === source.name} onClick={() => check.mutate(source.name)}>Check</Button>}
            {may("administrator") && <Button size="small" aria-label={`Edit ${source.name}`} onClick={() => setEditing(source)}>Edit</Button>}
            {may("administrator") && <Button size="small" type="text" aria-label={`Remove ${source.name}`} onClick={() => void ask(source.name)}>Remove</Button>}
          </header>
          <table className="files">
            <thead><tr><th style={{ width: 110 }}>Environment</th><th>Address</th><th style={{ width: "38%" }}>Last check</th><th style={{ width: 130 }}>At</th></tr></thead>
            <tbody>{source.addresses.map((address) => <AddressRow key={address.environment} address={address} />)}</tbody>
          </table>
        </section>
      ))}
      {editing && <SourceForm source={editing === "new" ? null : editing} onClose={() => setEditing(null)} />}
    </div>
  );
}
