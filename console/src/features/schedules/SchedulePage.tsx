import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button } from "antd";
import { useState, type ReactNode } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, must, type DueTime, type Schedule } from "../../api/client";
import { usePages } from "../../api/usePages";
import { Remarks } from "../../components/Remarks";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { useAddress } from "../../lib/useAddress";
import { amount, momentIn } from "../../lib/words";
import { useMe } from "../session/useMe";
import { BackfillForm } from "./BackfillForm";
import { Month } from "./Month";
import { PauseForm } from "./PauseForm";
import { useScheduleChanges } from "./useScheduleChanges";
import "../runs/runs.css";
import "./schedules.css";

const CATCH_UP: Record<string, string> = {
  latest: "only the last one that was missed runs",
  all: "all that were missed run",
  none: "what was missed does not run",
};
const WHILE_RUNNING: Record<string, string> = {
  wait: "the next run waits for it",
  skip: "the due time is skipped",
  parallel: "the next run starts beside it",
};
const ON_HOLIDAY: Record<string, string> = {
  run: "it runs on holidays too",
  skip: "not on holidays",
  next_working_day: "from a holiday to the next working day",
};

/** What a schedule does, a line for each decision, in plain words. */
function inWords(s: Schedule): [string, ReactNode][] {
  const values = Object.entries(s.values).filter(([, value]) => value !== null && value !== "");
  const bounds = [s.first_date && `from ${s.first_date}`, s.last_date && `to ${s.last_date}`].filter(Boolean);
  const limits = [
    s.catch_up_hours && `none older than ${s.catch_up_hours} h`,
    s.catch_up_limit && `no more than ${s.catch_up_limit}`,
  ].filter(Boolean);
  return [
    ["When", `${s.rule}, by the clocks of ${s.zone}${bounds.length ? `, ${bounds.join(" ")}` : ""}`],
    ["Holidays", s.calendar ? `${s.calendar}: ${ON_HOLIDAY[s.on_holiday]}` : "no calendar is minded"],
    ...(s.exceptions.length ? [["Never on", s.exceptions.join(", ")] as [string, ReactNode]] : []),
    [
      "With",
      values.length
        ? values.map(([name, value]) => `${name} = ${String(value)}`).join("; ")
        : "the extract’s own values",
    ],
    ["Missed", `${CATCH_UP[s.catch_up]}${limits.length ? `, ${limits.join(", ")}` : ""}`],
    ["While one runs", WHILE_RUNNING[s.while_running]],
    ["On a fault", `${amount(s.attempts, "attempt")}, given up after ${amount(s.timeout_minutes, "minute")}`],
    ["Late", s.finish_by ? `when it has not finished by ${s.finish_by.slice(0, 5)}` : "no hour is set"],
    ["Delivered into", s.deliver_into || "the extract’s folders"],
    ...(s.told?.length ? [["Told of a failure", s.told.join(", ")] as [string, ReactNode]] : []),
  ];
}

function DueTimes({ name, zone }: { name: string; zone: string }) {
  const past = usePages(
    ["due", name],
    (cursor) => must(api.GET("/api/v1/schedules/{name}/due-times", { params: { path: { name }, query: { cursor } } })),
    15_000,
  );
  return (
    <>
      <ProblemNote error={past.error} />
      <RecordTable<DueTime>
        rows={past.isPending ? undefined : past.items}
        rowKey="due_at"
        width={640}
        columns={[
          { title: "Due", key: "due", width: 170, render: (_, d) => momentIn(d.due_at, zone) },
          { title: "Data date", dataIndex: "data_date", width: 110 },
          { title: "Decision", dataIndex: "decision", width: 90 },
          {
            title: "Runs",
            key: "runs",
            width: 170,
            render: (_, d) =>
              d.runs.map((run) => (
                <Link key={run} to={`/runs/${run}`} style={{ marginRight: 8 }}>
                  run {run}
                </Link>
              )),
          },
          { title: "Reason", dataIndex: "reason" },
        ]}
        empty={<p>No due time has come yet.</p>}
      />
      {past.hasNextPage && (
        <Button style={{ marginTop: 8 }} loading={past.isFetchingNextPage} onClick={() => void past.fetchNextPage()}>
          Show earlier ones
        </Button>
      )}
    </>
  );
}

/** One schedule: what it does in plain words, its month at a glance, its due times with what became of each. */
export function SchedulePage() {
  const name = useParams().name!;
  const go = useNavigate();
  const client = useQueryClient();
  const { modal } = App.useApp();
  const { may } = useMe();
  const [at, set] = useAddress({ month: "" });
  const [open, setOpen] = useState<"pause" | "fill" | null>(null);
  const query = useQuery({
    queryKey: ["schedule", name],
    refetchInterval: 15_000,
    queryFn: () => must(api.GET("/api/v1/schedules/{name}", { params: { path: { name } } })),
  });
  const changes = useScheduleChanges(() => void go("/schedules", { replace: true }));
  const run = useMutation({
    mutationFn: () => must(api.POST("/api/v1/schedules/{name}/run", { params: { path: { name } } })),
    onSuccess: async (made) => {
      await client.invalidateQueries({ queryKey: ["due", name] });
      if (made.runs[0]) void go(`/runs/${made.runs[0]}`);
    },
  });
  const s = query.data;
  if (!s)
    return (
      <div className="page">
        <ProblemNote error={query.error} />
      </div>
    );
  const steps = [s.extract, ...s.then.map((step) => step.extract)];
  const ask = () =>
    void modal.confirm({
      title: `Run ${name} now?`,
      content: `${steps.join(", then ")} in ${s.environment}, with its values, delivered as at a due time.`,
      okText: "Run now",
      onOk: () => run.mutateAsync().catch(() => undefined),
    });
  return (
    <div className="page">
      <header className="head">
        <h1>{name}</h1>
        <p>
          {steps.map((extract, place) => (
            <span key={extract}>
              {place > 0 && ", then "}
              <Link to={`/extracts/${extract}`}>{extract}</Link>
            </span>
          ))}{" "}
          in {s.environment}
        </p>
        <div className="grow" />
        {may("runner") && (
          <Button type="primary" loading={run.isPending} onClick={ask}>
            Run now
          </Button>
        )}
        {may("author") && <Button onClick={() => void go(`/schedules/${name}/edit`)}>Edit</Button>}
        {may("author") && (
          <Button onClick={() => (s.paused_at ? changes.resume(name) : setOpen("pause"))}>
            {s.paused_at ? "Resume" : "Pause"}
          </Button>
        )}
        {may("runner") && <Button onClick={() => setOpen("fill")}>Backfill</Button>}
        {may("author") && <Button onClick={() => changes.remove(name)}>Remove</Button>}
      </header>
      <ProblemNote error={query.error ?? run.error ?? changes.error} />
      <Remarks of={s.remarks} />
      {s.paused_at ? (
        <p className="flag" style={{ margin: "0 0 10px" }}>
          Paused by {s.paused_by}
          {s.paused_until && ` until ${momentIn(s.paused_until, s.zone)}`}
          {s.pause_reason && `: ${s.pause_reason}`}. Due times are skipped.
        </p>
      ) : (
        <p className="said-line">
          <span>Next</span>
          {s.next_due.map((moment, place) => (
            <span key={moment.at} className={place ? "dim" : ""}>
              {momentIn(moment.at, s.zone)}
              {moment.note && ` (${moment.note})`}
            </span>
          ))}
          {!s.next_due.length && <span className="dim">no moment is left</span>}
        </p>
      )}
      <div className="schedule-parts">
        <Month name={name} day={at.month} onDay={(month) => set({ month })} />
        <dl className="in-words">
          {inWords(s).map(([what, words]) => (
            <div key={what}>
              <dt>{what}</dt>
              <dd>{words}</dd>
            </div>
          ))}
        </dl>
      </div>
      <h2>Due times</h2>
      <DueTimes name={name} zone={s.zone} />
      {open === "pause" && (
        <PauseForm what={name} onSend={(fields) => changes.pause(name, fields)} onClose={() => setOpen(null)} />
      )}
      {open === "fill" && <BackfillForm schedule={s} onClose={() => setOpen(null)} />}
    </div>
  );
}
