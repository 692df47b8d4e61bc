import { useDeferredValue, useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { Button, Input, Switch, Table, type TableColumnsType } from "antd";
import { Link } from "react-router";
import { api, must, type ExtractLine } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { moment } from "../../lib/words";
import { useMe } from "../session/useMe";
import { NewExtract } from "./NewExtract";
import "../runs/runs.css";

const columns: TableColumnsType<ExtractLine> = [
  { title: "Extract", key: "name", width: 180, render: (_, e) => <Link className="run-link" to={`/extracts/${e.name}`}>{e.name}</Link> },
  { title: "Folder", dataIndex: "folder", width: 170, ellipsis: true },
  { title: "Source", dataIndex: "source", width: 100 },
  { title: "Revision", dataIndex: "number", width: 80, align: "right" },
  { title: "Saved", key: "saved", width: 140, align: "right", render: (_, e) => moment(e.saved_at) },
  { title: "Owner", dataIndex: "owner", width: 70 },
  { title: "Tags", key: "tags", width: 110, ellipsis: true, render: (_, e) => e.tags.join(", ") },
  { title: "Notes", key: "notes", ellipsis: true, render: (_, e) => e.notes.split("\n")[0]!.replace(/[*_#`]/g, "") },
];

export function ExtractsPage() {
  const [word, setWord] = useState("");
  const [folder, setFolder] = useState("");
  const [archived, setArchived] = useState(false);
  const [adding, setAdding] = useState(false);
  const search = useDeferredValue(word.trim());
  const { may } = useMe();
  const query = useQuery({
    queryKey: ["extracts", search, archived],
    queryFn: () => must(api.GET("/api/v1/extracts", { params: { query: { search: search || undefined, archived: archived || undefined } } })),
    placeholderData: (before) => before,
  });
  const found = query.data ?? [];
  const folders = [...new Set(found.map((e) => e.folder))].filter(Boolean).sort();
  const shown = found.filter((e) => !folder || e.folder === folder || e.folder.startsWith(`${folder}/`));
  return (
    <div className="page">
      <header className="head">
        <h1>Extracts</h1>
        <p>{found.length} in {folders.length} folders</p>
        <div className="grow" />
        {may("author") && <Button type="primary" onClick={() => setAdding(true)}>New extract</Button>}
      </header>
      <div className="filters">
        <Input.Search aria-label="Search" placeholder="Names, folders, tags, notes, statements" allowClear style={{ width: 300 }} value={word} onChange={(e) => setWord(e.target.value)} />
        <div className="counts" role="group" aria-label="Folder" style={{ margin: 0 }}>
          {["", ...folders].map((name) => <button key={name} type="button" aria-pressed={folder === name} onClick={() => setFolder(name)}>{name || "all folders"}</button>)}
        </div>
        <div className="grow" />
        <label><Switch size="small" aria-label="Archived" checked={archived} onChange={setArchived} /> archived</label>
      </div>
      <ProblemNote error={query.error} />
      <Table<ExtractLine>
        size="small" rowKey="name" columns={columns} dataSource={shown} pagination={false} tableLayout="fixed" loading={query.isPending} scroll={{ x: 900 }}
        locale={{ emptyText: <div className="hollow"><p>{search || folder ? "Nothing matches." : archived ? "Nothing is archived." : "There are no extracts yet."}</p>{!search && !archived && may("author") && <Button onClick={() => setAdding(true)}>Write the first one</Button>}</div> }}
      />
      {adding && <NewExtract onClose={() => setAdding(false)} />}
    </div>
  );
}
