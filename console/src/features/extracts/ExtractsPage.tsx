import { useMemo, useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { Button, Input, Segmented, Select, Switch, Table, type TableColumnsType } from "antd";
import { Link, useNavigate } from "react-router";
import { api, must, type ExtractLine } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { RunMark } from "../../components/RunMark";
import { arrowed, sortedByClick } from "../../lib/sorting";
import { useAddress, useTyped } from "../../lib/useAddress";
import { amount, count, moment, sentence } from "../../lib/words";
import { useMe } from "../session/useMe";
import { extractsQuery } from "./extractsQuery";
import { Folders } from "./Folders";
import { flat, foldersOf, isBelow } from "./folders";
import { Several } from "./Several";
import { Star } from "./Star";
import "../runs/runs.css";
import "./extracts.css";

const PAGE = 50;
const SEARCH = "Words, or tag:billing, owner:amir, source:metering, state:failed";

const by = (of: (e: ExtractLine) => string | number | null | undefined) => (a: ExtractLine, b: ExtractLine) => {
  const [one, other] = [of(a) ?? "", of(b) ?? ""];
  return one < other ? -1 : one > other ? 1 : 0;
};
const ended = (e: ExtractLine) => e.last_run?.ended_at ?? e.last_run?.queued_at;
const firstLine = (notes: string) => notes.split("\n")[0]!.replace(/[*_#`]/g, "");

const columns: TableColumnsType<ExtractLine> = [
  {
    title: <span className="sr">Favourite</span>,
    key: "star",
    width: 34,
    render: (_, e) => <Star name={e.name} favourite={e.favourite} />,
  },
  {
    title: "Extract",
    key: "name",
    sorter: by((e) => e.name),
    render: (_, e) => (
      <>
        <Link className="run-link" to={`/extracts/${e.name}`}>
          {e.name}
        </Link>
        {e.problem ? (
          <div className="one-line said" title={e.problem}>
            {sentence(e.problem)}
          </div>
        ) : (
          e.notes && <div className="one-line dim">{firstLine(e.notes)}</div>
        )}
      </>
    ),
  },
  {
    title: "Last run",
    key: "state",
    width: 150,
    sorter: by((e) => e.last_run?.state),
    render: (_, e) =>
      e.last_run ? (
        <Link className="quiet" to={`/runs/${e.last_run.id}`}>
          <RunMark run={e.last_run} />
        </Link>
      ) : (
        <span className="dim">Never run</span>
      ),
  },
  {
    title: "Ended",
    key: "ended",
    responsive: ["sm"],
    width: 132,
    align: "right",
    sorter: by(ended),
    render: (_, e) => moment(e.last_run?.ended_at),
  },
  {
    title: "Rows",
    key: "rows",
    responsive: ["sm"],
    width: 90,
    align: "right",
    sorter: by((e) => e.last_run?.rows ?? -1),
    render: (_, e) => count(e.last_run?.rows),
  },
  {
    title: "Next due",
    key: "due",
    responsive: ["md"],
    width: 132,
    align: "right",
    sorter: by((e) => e.next_due_at ?? "z"),
    render: (_, e) =>
      e.next_due_at ? moment(e.next_due_at) : <span className="dim">{e.paused ? "Paused" : "–"}</span>,
  },
  {
    title: "Source",
    dataIndex: "source",
    key: "source",
    responsive: ["xxl"],
    width: 100,
    ellipsis: true,
    sorter: by((e) => e.source),
  },
];

/** The repository: folders, what is in them, and how each did last. */
export function ExtractsPage() {
  const [at, set] = useAddress({ search: "", folder: "", show: "all", archived: "", sort: "", page: "1" });
  const toAddress = useMemo(() => (search: string) => set({ search, page: "1" }, true), [set]);
  const [word, setWord] = useTyped(at.search, toAddress);
  const [chosen, setChosen] = useState<string[]>([]);
  const { may } = useMe();
  const search = at.search.trim();
  const query = useQuery({
    ...extractsQuery(search, at.archived),
    placeholderData: (before) => before,
    refetchInterval: ({ state: { data } }) => Math.max(10_000, 100 * (data?.length ?? 0)), // a long list costs more
  });
  const go = useNavigate();
  const begin = () => void go(`/new-extract/${crypto.randomUUID()}`);
  const drafts = useQuery({
    queryKey: ["drafts"],
    enabled: may("author"),
    queryFn: () => must(api.GET("/api/v1/drafts")),
  });
  const found = useMemo(() => {
    const all = query.data ?? [];
    if (at.show === "favourites") return all.filter((e) => e.favourite);
    if (at.show === "recent")
      return all.filter((e) => e.opened_at).sort((a, b) => (a.opened_at! < b.opened_at! ? 1 : -1));
    return all;
  }, [query.data, at.show]);
  const tree = useMemo(() => foldersOf(found.map((e) => e.folder)), [found]);
  const folders = flat(tree);
  const shown = useMemo(() => found.filter((e) => isBelow(e.folder, at.folder)), [found, at.folder]);
  const there = useMemo(() => new Map((query.data ?? []).map((e) => [e.name, e])), [query.data]);
  const narrowed = !!search || !!at.folder || at.show !== "all";
  return (
    <div className="page">
      <header className="head">
        <h1>Extracts</h1>
        <p aria-live="polite">
          {query.data &&
            (shown.length === found.length
              ? `${count(found.length)} in ${amount(folders.length, "folder")}`
              : `${count(shown.length)} of ${count(found.length)}`)}
        </p>
        <div className="grow" />
        {may("author") && (
          <Button type="primary" onClick={begin}>
            New extract
          </Button>
        )}
      </header>
      <Input
        type="search"
        aria-label="Search"
        placeholder={SEARCH}
        allowClear
        value={word}
        onChange={(e) => setWord(e.target.value)}
      />
      <div className="filters">
        <Segmented
          aria-label="Which"
          value={at.show}
          onChange={(show) => set({ show, page: "1" })}
          options={[
            { value: "all", label: "All" },
            { value: "favourites", label: "Favourites" },
            { value: "recent", label: "Recently opened" },
          ]}
        />
        <Select
          className="folder-choice"
          showSearch
          aria-label="Folder"
          value={at.folder}
          onChange={(folder: string) => set({ folder, page: "1" })}
          options={[
            { value: "", label: "All folders" },
            ...folders.map((f) => ({ value: f.path, label: `${f.path} (${count(f.extracts)})` })),
          ]}
        />
        <label>
          <Switch
            size="small"
            aria-label="Archived"
            checked={at.archived === "yes"}
            onChange={(on) => {
              setChosen([]);
              set({ archived: on ? "yes" : "", page: "1" });
            }}
          />{" "}
          Archived
        </label>
      </div>
      <Drafts drafts={drafts.data ?? []} />
      <ProblemNote error={query.error} />
      <Several
        chosen={chosen.flatMap((name) => there.get(name) ?? [])}
        folders={folders.map((f) => f.path)}
        onChoose={setChosen}
      />
      <div className="beside">
        <Folders
          folders={tree}
          total={found.length}
          chosen={at.folder}
          onChoose={(folder) => set({ folder, page: "1" })}
        />
        <Table<ExtractLine>
          size="small"
          rowKey="name"
          columns={arrowed(columns, at.sort)}
          dataSource={shown}
          rowSelection={
            may("runner")
              ? {
                  columnWidth: 34,
                  selectedRowKeys: chosen,
                  preserveSelectedRowKeys: true,
                  onChange: (keys) => setChosen(keys as string[]),
                  getCheckboxProps: (e) => ({ "aria-label": `Choose ${e.name}` }),
                }
              : undefined
          }
          pagination={{
            pageSize: PAGE,
            current: Math.max(1, Math.min(Number(at.page) || 1, Math.ceil(shown.length / PAGE) || 1)),
            showSizeChanger: false,
            hideOnSinglePage: true,
            showTotal: (total, [from, to]) => `${count(from)} to ${count(to)} of ${count(total)}`,
          }}
          onChange={(page, _, sorter, { action }) => {
            set({ sort: sortedByClick(sorter), page: action === "sort" ? "1" : String(page.current ?? 1) });
          }}
          tableLayout="fixed"
          rowClassName={(e) => `row-${e.last_run?.state ?? "none"}`}
          locale={{
            emptyText: query.isPending ? (
              " "
            ) : (
              <div className="hollow">
                <p>
                  {narrowed ? "Nothing matches." : at.archived ? "Nothing is archived." : "There are no extracts yet."}
                </p>
                {narrowed ? (
                  <Button
                    onClick={() => {
                      setWord("");
                      set({ search: "", folder: "", show: "all", page: "1" });
                    }}
                  >
                    Show all
                  </Button>
                ) : (
                  !at.archived && may("author") && <Button onClick={begin}>Write the first one</Button>
                )}
              </div>
            ),
          }}
        />
      </div>
    </div>
  );
}

function Drafts({ drafts }: { drafts: { key: string; extract: string; saved_at: string | null }[] }) {
  if (!drafts.length) return null;
  return (
    <p className="said-line">
      <span>Your drafts:</span>
      {drafts.slice(0, 8).map((d) => (
        <Link
          key={d.key + d.extract}
          className="in-text"
          to={d.extract ? `/extracts/${d.extract}` : `/new-extract/${d.key}`}
        >
          {d.extract || `new, ${moment(d.saved_at)}`}
        </Link>
      ))}
      {drafts.length > 8 && <span className="dim">and {drafts.length - 8} more</span>}
    </p>
  );
}
