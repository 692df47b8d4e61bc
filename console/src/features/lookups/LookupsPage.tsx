import { useQuery } from "@tanstack/react-query";
import { Button, Switch } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, must, type Lookup } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { count, moment } from "../../lib/words";
import { useMe } from "../session/useMe";
import { TableForm } from "./TableForm";

/** Small tables of the repository: codes and names, limits, exclusions. */
export function LookupsPage() {
  const { may } = useMe();
  const go = useNavigate();
  const [adding, setAdding] = useState(false);
  const [archived, setArchived] = useState(false);
  const list = useQuery({
    queryKey: ["lookups", archived],
    queryFn: () => must(api.GET("/api/v1/lookups", { params: { query: archived ? { archived } : {} } })),
  });
  return (
    <div className="page">
      <header className="head">
        <h1>Lookups</h1>
        <p>Small tables that steps and guards look up in: codes and names, limits, exclusions.</p>
        <div className="grow" />
        <label>
          <Switch size="small" checked={archived} onChange={setArchived} aria-label="Archived ones" /> Archived
        </label>
        {may("author") && (
          <Button type="primary" onClick={() => setAdding(true)}>
            Add lookup
          </Button>
        )}
      </header>
      <ProblemNote error={list.error} />
      <RecordTable<Lookup>
        rows={list.data}
        width={800}
        columns={[
          {
            title: "Lookup",
            key: "name",
            width: 180,
            render: (_, v) => <Link to={`/lookups/${v.name}`}>{v.name}</Link>,
          },
          { title: "Rows", key: "rows", align: "right", width: 90, render: (_, v) => count(v.revision.rows) },
          {
            title: "Columns",
            key: "columns",
            render: (_, v) => <span className="mono">{v.revision.columns.map((each) => each.name).join(", ")}</span>,
          },
          { title: "Key", key: "key", render: (_, v) => <span className="mono">{v.revision.key.join(", ")}</span> },
          {
            title: "Used by",
            key: "used",
            render: (_, v) =>
              v.used_by.length ? (
                v.used_by.map((name) => (
                  <div key={name}>
                    <Link to={`/extracts/${name}`}>{name}</Link>
                  </div>
                ))
              ) : (
                <span className="dim">nothing yet</span>
              ),
          },
          { title: "What it is", dataIndex: "note" },
          {
            title: "Saved",
            key: "at",
            width: 190,
            render: (_, v) => (
              <span className="dim">
                {moment(v.revision.saved_at)} by {v.revision.author}
              </span>
            ),
          },
        ]}
        empty={
          archived ? (
            <p>Nothing is archived.</p>
          ) : (
            <>
              <p>
                There are no lookups yet. Copy a table of codes and names out of a spreadsheet, and put it here once.
              </p>
              {may("author") && <Button onClick={() => setAdding(true)}>Add the first one</Button>}
            </>
          )
        }
      />
      {adding && (
        <TableForm
          lookup={null}
          onClose={() => setAdding(false)}
          onSaved={(saved) => void go(`/lookups/${saved.name}`)}
        />
      )}
    </div>
  );
}
