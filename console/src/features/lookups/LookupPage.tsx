import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Input, Select } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, must, type Lookup, type LookupRows } from "../../api/client";
import { Part, useParts } from "../../components/Part";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { amount, count, moment } from "../../lib/words";
import { useMe } from "../session/useMe";
import { TableForm } from "./TableForm";
import { changedRows, type Cells } from "./rows";
import "../browse/browse.css";

const PAGE = 100;

/** The rows, edited in place; what was changed is one revision when it is saved. */
function Rows({ lookup }: { lookup: Lookup }) {
  const { name, revision } = lookup;
  const client = useQueryClient();
  const { message } = App.useApp();
  const { may } = useMe();
  const [find, setFind] = useState("");
  const [limit, setLimit] = useState(PAGE);
  const [changed, setChanged] = useState<Record<string, Cells>>({});
  const [added, setAdded] = useState<Cells[]>([]);
  const [gone, setGone] = useState<Set<string>>(new Set());
  const [note, setNote] = useState("");
  const query = useQuery({
    queryKey: ["lookup-rows", name, revision.number, find, limit],
    placeholderData: (before) => before,
    queryFn: () =>
      must(
        api.GET("/api/v1/lookups/{name}/rows", {
          params: { path: { name }, query: { revision: revision.number, limit, ...(find ? { find } : {}) } },
        }),
      ),
  });
  const found: LookupRows | undefined = query.data;
  const names = revision.columns.map((each) => each.name);
  const keyOf = (row: Cells) => JSON.stringify(revision.key.map((each) => row[names.indexOf(each)]));
  const reset = () => {
    setChanged({});
    setAdded([]);
    setGone(new Set());
    setNote("");
  };
  const save = useMutation({
    mutationFn: () =>
      must(
        api.PATCH("/api/v1/lookups/{name}", {
          params: { path: { name } },
          headers: { "If-Match": `"${revision.number}"` },
          body: { ...changedRows(names, changed, added, gone), change_note: note },
        }),
      ),
    onSuccess: (saved) => {
      reset();
      client.setQueryData(["lookup", name], saved);
      void client.invalidateQueries();
      void message.success(`Saved as revision ${saved.revision.number}.`);
    },
  });
  const many = Object.keys(changed).length + added.length + gone.size;
  const writable = may("author") && !lookup.archived_at;
  const cell = (row: Cells, place: number, put: (value: string) => void, label: string, locked: boolean) =>
    writable && !locked ? (
      <Input
        size="small"
        variant="borderless"
        className="mono"
        aria-label={label}
        value={row[place] ?? ""}
        placeholder="null"
        onChange={(e) => put(e.target.value)}
      />
    ) : (
      <span className="mono">{row[place] ?? <i className="dim">null</i>}</span>
    );
  const rows = (found?.rows ?? []).map((row) => ({ id: keyOf(row), row: changed[keyOf(row)] ?? row, fresh: -1 }));
  const fresh = added.map((row, i) => ({ id: `new ${i}`, row, fresh: i }));
  return (
    <section aria-label="Rows">
      <div className="filters">
        <Input.Search
          size="small"
          allowClear
          aria-label="Find in the rows"
          placeholder="Find"
          onSearch={setFind}
          style={{ width: 220 }}
        />
        {found && (
          <span className="dim">{find ? `${amount(found.total, "row")} found` : amount(found.total, "row")}</span>
        )}
        {writable && (
          <Button size="small" onClick={() => setAdded([...added, names.map(() => null)])}>
            Add row
          </Button>
        )}
        <a href={`/api/v1/lookups/${encodeURIComponent(name)}/file`} download={`${name}.csv`}>
          Download as CSV
        </a>
        <a
          href={`/api/v1/lookups/${encodeURIComponent(name)}/file?escape_formulas=true`}
          download={`${name}-without-formulas.csv`}
          title="For a spreadsheet program: an apostrophe stands before texts that it would take for a formula. Not to be saved here again."
        >
          Download without formulas
        </a>
      </div>
      <ProblemNote error={query.error ?? save.error} />
      <RecordTable<{ id: string; row: Cells; fresh: number }>
        rows={found ? [...rows, ...fresh] : undefined}
        rowKey="id"
        width={names.length * 150 + 90}
        columns={[
          ...names.map((column, place) => ({
            title: `${column}${revision.key.includes(column) ? " (key)" : ""}`,
            key: column,
            render: (_: unknown, line: { id: string; row: Cells; fresh: number }) => {
              const label = `${column}, ${line.fresh < 0 ? (JSON.parse(line.id) as string[]).join(" ") : `new row ${line.fresh + 1}`}`;
              const put = (value: string) => {
                const next = line.row.map((old, i) => (i === place ? value || null : old));
                if (line.fresh < 0) setChanged({ ...changed, [line.id]: next });
                else setAdded(added.map((old, i) => (i === line.fresh ? next : old)));
              };
              const locked = gone.has(line.id) || (line.fresh < 0 && revision.key.includes(column));
              return (
                <span className={gone.has(line.id) ? "lookup-gone" : ""}>
                  {cell(line.row, place, put, label, locked)}
                </span>
              );
            },
          })),
          {
            title: <span className="sr">Remove</span>,
            key: "do",
            width: 90,
            render: (_: unknown, line: { id: string; row: Cells; fresh: number }) =>
              writable && (
                <Button
                  size="small"
                  type="text"
                  onClick={() => {
                    if (line.fresh >= 0) return setAdded(added.filter((_, i) => i !== line.fresh));
                    const next = new Set(gone);
                    if (!next.delete(line.id)) next.add(line.id);
                    setGone(next);
                  }}
                >
                  {gone.has(line.id) ? "Keep" : "Remove"}
                </Button>
              ),
          },
        ]}
        empty={<p>{find ? "No row has that text." : "It has no rows."}</p>}
      />
      {found && found.total > found.rows.length && (
        <Button size="small" onClick={() => setLimit(Math.min(limit + 300, 1_000))} disabled={limit >= 1_000}>
          Show more of {count(found.total)}
        </Button>
      )}
      {many > 0 && (
        <div className="save-bar">
          <div className="filters">
            <Input
              aria-label="What this save changes"
              placeholder="What this save changes"
              value={note}
              onChange={(e) => setNote(e.target.value)}
              style={{ maxWidth: 360 }}
            />
            <Button type="primary" loading={save.isPending} onClick={() => save.mutate()}>
              Save {amount(many, "change")}
            </Button>
            <Button type="text" onClick={reset}>
              Undo changes
            </Button>
          </div>
        </div>
      )}
    </section>
  );
}

/** Revisions, and what a chosen one has that the one before it had not. */
function Revisions({ lookup }: { lookup: Lookup }) {
  const client = useQueryClient();
  const { may } = useMe();
  const { name, revision } = lookup;
  const [chosen, setChosen] = useState(revision.number);
  const list = useQuery({
    queryKey: ["revisions", "lookup", name],
    queryFn: () => must(api.GET("/api/v1/lookups/{name}/revisions", { params: { path: { name } } })),
  });
  const told = useQuery({
    queryKey: ["differences", "lookup", name, chosen],
    enabled: chosen > 1,
    queryFn: () =>
      must(
        api.GET("/api/v1/lookups/{name}/differences", {
          params: { path: { name }, query: { before: chosen - 1, after: chosen } },
        }),
      ),
  });
  const restore = useMutation({
    mutationFn: () =>
      must(api.POST("/api/v1/lookups/{name}/restore", { params: { path: { name } }, body: { revision: chosen } })),
    onSuccess: () => client.invalidateQueries(),
  });
  const lines = [
    ...(told.data?.removed ?? []).map((row) => ["-", ...row]),
    ...(told.data?.changed ?? []).flatMap((each) => [
      ["-", ...each.before],
      ["+", ...each.after],
    ]),
    ...(told.data?.added ?? []).map((row) => ["+", ...row]),
  ];
  return (
    <>
      <div className="filters">
        <Select
          size="small"
          aria-label="Revision"
          value={chosen}
          onChange={(next: number) => setChosen(next)}
          options={(list.data ?? []).map((each) => ({
            value: each.number,
            label: `${each.number}: ${moment(each.saved_at)} by ${each.author}${each.change_note ? `, ${each.change_note}` : ""}`,
          }))}
          style={{ width: 420 }}
        />
        {may("author") && chosen !== revision.number && (
          <Button size="small" loading={restore.isPending} onClick={() => restore.mutate()}>
            Make it the newest
          </Button>
        )}
      </div>
      <ProblemNote error={list.error ?? told.error ?? restore.error} />
      {chosen === 1 ? (
        <p className="dim">The first one.</p>
      ) : (
        told.data && (
          <>
            {told.data.settings.map((words) => (
              <p key={words}>{words}</p>
            ))}
            {lines.length ? (
              <pre className="lookup-lines" tabIndex={0} aria-label={`What revision ${chosen} changed`}>
                {[["", ...told.data.columns], ...lines]
                  .map((row) => row.map((each) => each ?? "null").join("  "))
                  .join("\n")}
              </pre>
            ) : (
              <p className="dim">No row differs from revision {chosen - 1}.</p>
            )}
          </>
        )
      )}
    </>
  );
}

function Opened({ lookup }: { lookup: Lookup }) {
  const client = useQueryClient();
  const { modal } = App.useApp();
  const { may } = useMe();
  const [table, setTable] = useState(false);
  const { name, revision } = lookup;
  const archive = useMutation({
    mutationFn: (back: boolean) =>
      must(
        back
          ? api.POST("/api/v1/lookups/{name}/restore", { params: { path: { name } }, body: {} })
          : api.POST("/api/v1/lookups/{name}/archive", { params: { path: { name } } }),
      ),
    onSuccess: () => client.invalidateQueries(),
  });
  const ask = () =>
    modal.confirm({
      title: `Archive ${name}?`,
      content: "No extract can use it until it is restored.",
      okText: "Archive",
      onOk: () => archive.mutateAsync(false).catch(() => undefined), // told on the page
    });
  return (
    <div className="page">
      <header className="head">
        <h1>{name}</h1>
        <p>
          {lookup.note}
          {lookup.archived_at && " (archived)"}
        </p>
        <div className="grow" />
        {may("author") && !lookup.archived_at && <Button onClick={() => setTable(true)}>Another table</Button>}
        {may("author") &&
          (lookup.archived_at ? (
            <Button onClick={() => archive.mutate(true)}>Restore</Button>
          ) : (
            <Button onClick={() => void ask()}>Archive</Button>
          ))}
      </header>
      <div className="said-line" style={{ margin: "-4px 0 8px" }}>
        <span>
          {amount(revision.rows, "row")} of {revision.columns.map((each) => `${each.name} (${each.kind})`).join(", ")}
        </span>
        <span>
          used by{" "}
          {lookup.used_by.length
            ? lookup.used_by.map((user, i) => (
                <span key={user}>
                  {i > 0 && ", "}
                  <Link className="in-text" to={`/extracts/${user}`}>
                    {user}
                  </Link>
                </span>
              ))
            : "nothing yet"}
        </span>
      </div>
      <ProblemNote error={archive.error} />
      <Rows key={revision.number} lookup={lookup} />
      <Part
        name="revisions"
        title="Who saved it"
        words={`Revision ${revision.number} by ${revision.author}, ${moment(revision.saved_at)}${revision.change_note ? `: ${revision.change_note}` : ""}`}
        parts={useParts()}
        opens="Show"
      >
        <Revisions key={revision.number} lookup={lookup} />
      </Part>
      {table && <TableForm lookup={lookup} onClose={() => setTable(false)} />}
    </div>
  );
}

/** One lookup: its rows, edited in place, and who changed what. */
export function LookupPage() {
  const name = useParams().name!;
  const query = useQuery({
    queryKey: ["lookup", name],
    queryFn: () => must(api.GET("/api/v1/lookups/{name}", { params: { path: { name } } })),
  });
  if (!query.data)
    return (
      <div className="page">
        <ProblemNote error={query.error} />
      </div>
    );
  return <Opened key={query.data.name} lookup={query.data} />;
}
