import { Button, Dropdown, Input, Table, type TableColumnsType } from "antd";
import { useDeferredValue, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, must, type Schedule } from "../../api/client";
import { usePages } from "../../api/usePages";
import { ProblemNote } from "../../components/ProblemNote";
import { momentIn } from "../../lib/words";
import { useMe } from "../session/useMe";
import { BackfillForm } from "./BackfillForm";
import { Backfills } from "./Backfills";
import { PauseForm } from "./PauseForm";
import { Several } from "./Several";
import { useScheduleChanges } from "./useScheduleChanges";
import "../runs/runs.css";

export function SchedulesPage() {
  const go = useNavigate();
  const [chosen, setChosen] = useState<string[]>([]);
  const [pausing, setPausing] = useState<Schedule | null>(null);
  const [filling, setFilling] = useState<Schedule | null>(null);
  const { may } = useMe();
  const [params, setParams] = useSearchParams();
  const word = params.get("search") ?? "";
  const search = useDeferredValue(word.trim());
  const query = usePages(
    ["schedules", search],
    (cursor) => must(api.GET("/api/v1/schedules", { params: { query: { search: search || undefined, cursor } } })),
    15_000,
    true,
  );
  const changes = useScheduleChanges();
  const columns: TableColumnsType<Schedule> = [
    {
      title: "Schedule",
      dataIndex: "name",
      width: 170,
      render: (name: string) => (
        <Link className="run-link" to={`/schedules/${name}`}>
          {name}
        </Link>
      ),
    },
    {
      title: "Extract",
      key: "extract",
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
    { title: "Environment", dataIndex: "environment", width: 96 },
    {
      title: "Rule",
      key: "rule",
      width: 190,
      render: (_, s) => (
        <>
          {s.rule}
          <br />
          <small>{[s.zone, s.calendar && `${s.calendar}: ${s.on_holiday}`].filter(Boolean).join(", ")}</small>
        </>
      ),
    },
    {
      title: "Next due times",
      key: "next",
      render: (_, s) =>
        s.paused_at ? (
          <span className="flag" style={{ margin: 0 }}>
            paused by {s.paused_by}
            {s.paused_until && ` until ${momentIn(s.paused_until, s.zone)}`}
            {s.pause_reason && `: ${s.pause_reason}`}; due times are skipped
          </span>
        ) : (
          s.next_due.slice(0, 3).map((m, i) => (
            <span key={m.at} className={i ? "dim" : ""} style={{ display: "block" }}>
              {momentIn(m.at, s.zone)}
              {m.note && <small> ({m.note})</small>}
            </span>
          ))
        ),
    },
    {
      title: <span className="sr">Change</span>,
      key: "do",
      width: 190,
      render: (_, s) =>
        may("author") && (
          <span style={{ display: "flex", gap: 6 }}>
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
            <Dropdown
              trigger={["click"]}
              menu={{
                items: [
                  { key: "backfill", label: "Backfill" },
                  { key: "remove", label: "Remove", danger: true },
                ],
                onClick: ({ key }) => (key === "backfill" ? setFilling(s) : changes.remove(s.name)),
              }}
            >
              <Button size="small" type="text" aria-label={`More for ${s.name}`}>
                More
              </Button>
            </Dropdown>
          </span>
        ),
    },
  ];
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
      <div className="filters">
        <Input.Search
          aria-label="Search"
          placeholder="Names, extracts, folders"
          allowClear
          style={{ width: 300 }}
          value={word}
          onChange={(e) => setParams(e.target.value ? { search: e.target.value } : {}, { replace: true })}
        />
      </div>
      <ProblemNote error={query.error ?? changes.error} />
      <Several chosen={query.items.filter((s) => chosen.includes(s.name))} onChoose={setChosen} shown={query.items} />
      <Table<Schedule>
        size="small"
        rowKey="name"
        {...(may("author")
          ? {
              rowSelection: {
                columnWidth: 34,
                columnTitle: <span className="sr">Choose</span>,
                selectedRowKeys: chosen,
                onChange: (keys: React.Key[]) => setChosen(keys.map(String)),
                getCheckboxProps: (s: Schedule) => ({ "aria-label": `Choose ${s.name}` }),
              },
            }
          : {})}
        columns={columns}
        dataSource={query.items}
        loading={query.isPending}
        pagination={false}
        tableLayout="fixed"
        {...(query.items.length ? { scroll: { x: 960 } } : {})}
        locale={{
          emptyText: (
            <div className="hollow">
              <p>{search ? "Nothing matches." : "Nothing runs by itself yet."}</p>
              {!search && may("author") && (
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
