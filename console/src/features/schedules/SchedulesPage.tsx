import { Button, Table, type TableColumnsType } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, must, type Schedule, type ScheduleLine } from "../../api/client";
import { usePages } from "../../api/usePages";
import { Narrowing } from "../../components/Narrowing";
import { Menu } from "../../components/Menu";
import { ProblemNote } from "../../components/ProblemNote";
import { RunMark } from "../../components/RunMark";
import { arrowed, askedFor, sortedByClick } from "../../lib/sorting";
import { useAddress } from "../../lib/useAddress";
import { amount, momentIn, sentence, spaced } from "../../lib/words";
import { useMe } from "../session/useMe";
import { BackfillForm } from "./BackfillForm";
import { Backfills } from "./Backfills";
import { PauseForm } from "./PauseForm";
import { Several } from "./Several";
import { useScheduleChanges } from "./useScheduleChanges";
import "../runs/runs.css";

const OF_RUNS = ["failed", "not_run", "running", "waiting", "queued", "finished", "cancelled"];
const STATES = [
  { value: "active", label: "Active" },
  { value: "paused", label: "Paused" },
  ...[...OF_RUNS, "held", "not_delivered", "late", "warned", "empty"].map((value) => ({
    value,
    label: `Last run ${spaced(value)}`,
  })),
];

/** All schedules: what each runs, how it did last, and when it is due next. */
export function SchedulesPage() {
  const go = useNavigate();
  const [chosen, setChosen] = useState<string[]>([]);
  const [pausing, setPausing] = useState<Schedule | null>(null);
  const [filling, setFilling] = useState<Schedule | null>(null);
  const { may } = useMe();
  const [at, set] = useAddress({ search: "", state: "", environment: "", sort: "" });
  const query = usePages(
    ["schedules", at],
    (cursor) =>
      must(
        api.GET("/api/v1/schedules", {
          params: {
            query: {
              search: at.search.trim() || undefined,
              environment: at.environment || undefined,
              ...({ state: at.state || undefined, ...askedFor(at.sort) } as object),
              cursor,
            },
          },
        }),
      ),
    15_000,
    true,
  );
  const changes = useScheduleChanges();
  const columns: TableColumnsType<ScheduleLine> = [
    {
      title: "Schedule",
      key: "name",
      sorter: true,
      width: 210,
      render: (_, s) => (
        <>
          <Link className="run-link" to={`/schedules/${s.name}`}>
            {s.name}
          </Link>
          {s.problem && (
            <div className="one-line said" title={s.problem}>
              {sentence(s.problem)}
            </div>
          )}
        </>
      ),
    },
    {
      title: "Extract",
      key: "extract",
      sorter: true,
      width: 170,
      render: (_, s) => (
        <>
          <Link to={`/extracts/${s.extract}`}>{s.extract}</Link>
          {s.then.map((step) => (
            <small key={step.extract} style={{ display: "block" }}>
              then <Link to={`/extracts/${step.extract}`}>{step.extract}</Link>
            </small>
          ))}
        </>
      ),
    },
    { title: "Environment", key: "environment", dataIndex: "environment", width: 116, sorter: true },
    {
      title: "Last run",
      key: "last_due",
      sorter: true,
      width: 172,
      render: (_, s) =>
        s.last_run ? (
          <>
            <Link className="quiet" to={`/runs/${s.last_run.id}`}>
              <RunMark run={s.last_run} />
            </Link>
            <div className="dim">
              {[s.last_run.rows !== null && amount(s.last_run.rows, "row"), momentIn(s.last_due_at!, s.zone).slice(5)]
                .filter(Boolean)
                .join(", ")}
            </div>
          </>
        ) : (
          <span className="dim">None yet</span>
        ),
    },
    {
      title: "Next due",
      key: "next_due",
      sorter: true,
      render: (_, s) =>
        s.paused_at ? (
          <span className="flag" style={{ margin: 0 }}>
            paused by {s.paused_by}
            {s.paused_until && ` until ${momentIn(s.paused_until, s.zone)}`}
            {s.pause_reason && `: ${s.pause_reason}`}; due times are skipped
          </span>
        ) : (
          <>
            {s.next_due[0] ? momentIn(s.next_due[0].at, s.zone) : "Never"}
            {s.next_due[0]?.note && <small> ({s.next_due[0].note})</small>}
            <div className="dim">
              {[s.rule, s.zone, s.calendar && s.on_holiday !== "run" && `${s.calendar}: ${spaced(s.on_holiday)}`]
                .filter(Boolean)
                .join(", ")}
            </div>
          </>
        ),
    },
    {
      title: <span className="sr">Change</span>,
      key: "do",
      width: 190,
      render: (_, s) =>
        may("author") && (
          <span className="beside-each-other">
            <Button size="small" aria-label={`Edit ${s.name}`} onClick={() => void go(`/schedules/${s.name}/edit`)}>
              Edit
            </Button>
            <Button
              size="small"
              aria-label={`${s.paused_at ? "Resume" : "Pause"} ${s.name}`}
              onClick={() => (s.paused_at ? changes.resume(s.name) : setPausing(s))}
            >
              {s.paused_at ? "Resume" : "Pause"}
            </Button>
            <Menu
              items={[
                { key: "backfill", label: "Backfill" },
                { key: "remove", label: "Remove", danger: true },
              ]}
              onChoose={(key) => (key === "backfill" ? setFilling(s) : changes.remove(s.name))}
            >
              <Button size="small" type="text" aria-label={`More for ${s.name}`}>
                More
              </Button>
            </Menu>
          </span>
        ),
    },
  ];
  const narrowed = !!(at.search || at.state || at.environment);
  return (
    <div className="page">
      <header className="head">
        <h1>Schedules</h1>
        <p>Times are those of each schedule’s own zone.</p>
        <div className="grow" />
        {may("author") && (
          <Button type="primary" onClick={() => void go("/new-schedule")}>
            Add schedule
          </Button>
        )}
      </header>
      <Narrowing
        at={at}
        set={set}
        search="Names, extracts, folders"
        choices={[{ key: "state", label: "State", options: STATES }]}
        environment
      />
      <ProblemNote error={query.error ?? changes.error} />
      <Several chosen={query.items.filter((s) => chosen.includes(s.name))} onChoose={setChosen} shown={query.items} />
      <Table<ScheduleLine>
        size="small"
        rowKey="name"
        {...(may("author")
          ? {
              rowSelection: {
                columnWidth: 34,
                columnTitle: <span className="sr">Choose</span>,
                selectedRowKeys: chosen,
                onChange: (keys: React.Key[]) => setChosen(keys.map(String)),
                getCheckboxProps: (s: ScheduleLine) => ({ "aria-label": `Choose ${s.name}` }),
              },
            }
          : {})}
        columns={arrowed(columns, at.sort)}
        dataSource={query.items}
        onChange={(_page, _filters, sorter) => set({ sort: sortedByClick(sorter) })}
        pagination={false}
        tableLayout="fixed"
        {...(query.items.length ? { scroll: { x: 960 } } : {})}
        locale={{
          emptyText: query.isPending ? (
            " "
          ) : (
            <div className="hollow">
              <p>{narrowed ? "No schedule is like that." : "Nothing runs by itself yet."}</p>
              {!narrowed && may("author") && (
                <Button onClick={() => void go("/new-schedule")}>Add the first schedule</Button>
              )}
            </div>
          ),
        }}
      />
      {query.hasNextPage && (
        <Button loading={query.isFetchingNextPage} onClick={() => void query.fetchNextPage()} style={{ marginTop: 12 }}>
          Show more
        </Button>
      )}
      <Backfills />
      {pausing && (
        <PauseForm
          what={pausing.name}
          onSend={(fields) => changes.pause(pausing.name, fields)}
          onClose={() => setPausing(null)}
        />
      )}
      {filling && <BackfillForm schedule={filling} onClose={() => setFilling(null)} />}
    </div>
  );
}
