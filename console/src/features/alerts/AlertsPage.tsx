import { useEffect } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, type TableColumnsType } from "antd";
import { Link } from "react-router";
import { api, must, type AlertRecord, type SendingRecord } from "../../api/client";
import { usePages } from "../../api/usePages";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { moment, spaced } from "../../lib/words";
import { useMe } from "../session/useMe";
import { OwnAlerts } from "./OwnAlerts";
import { useBell } from "./useBell";
import "../../components/state.css";
import "./alerts.css";

const good = new Set(["recovered", "summary", "test", "own_run"]);

function OpenProblems() {
  const bell = useBell();
  const found = bell.data?.open_problems ?? [];
  if (!bell.data) return null;
  if (!found.length) return <p className="dim">Nothing is wrong now.</p>;
  return (
    <ul className="problems" aria-label="Open problems">
      {found.map((t) => (
        <li key={t.title} className="problem">
          <strong>{t.title}</strong>
          <span>
            open since {moment(t.began_at)}
            {t.count > 1 && `, seen ${t.count} times, last ${moment(t.seen_at)}; told once`}
          </span>
        </li>
      ))}
    </ul>
  );
}

function Sent() {
  const client = useQueryClient();
  const { may } = useMe();
  const sendings = useQuery({
    queryKey: ["sendings"],
    queryFn: () => must(api.GET("/api/v1/sendings", { params: { query: { page_size: 20 } } })),
    refetchInterval: 5_000,
  });
  const again = () => client.invalidateQueries({ queryKey: ["sendings"] });
  const resend = useMutation({
    mutationFn: (number: number) => must(api.POST("/api/v1/sendings/{number}/again", { params: { path: { number } } })),
    onSuccess: again,
  });
  const log: TableColumnsType<SendingRecord> = [
    { title: "Alert", key: "alert", render: (_, s) => s.alert.title },
    { title: "Channel", dataIndex: "channel", width: 150 },
    {
      title: "State",
      key: "state",
      width: 110,
      render: (_, s) => (
        <span className={s.state === "failed" ? "flag" : ""} style={{ margin: 0 }}>
          {s.state}
        </span>
      ),
    },
    { title: "Attempts", dataIndex: "attempts", width: 80, align: "right" },
    { title: "Response", key: "response", render: (_, s) => s.response || <span className="dim">nothing yet</span> },
    {
      title: <span className="sr">Again</span>,
      key: "again",
      width: 90,
      render: (_, s) =>
        may("administrator") &&
        s.state === "failed" && (
          <Button size="small" onClick={() => resend.mutate(s.id)}>
            Send again
          </Button>
        ),
    },
  ];
  return (
    <>
      <h2>Sent</h2>
      <p className="dim">
        On the{" "}
        <Link className="in-text" to="/channels">
          channels
        </Link>{" "}
        that take alerts out of here.
      </p>
      <RecordTable<SendingRecord>
        rows={sendings.data?.results}
        rowKey="id"
        columns={log}
        empty={<p>Nothing was sent yet.</p>}
      />
      <ProblemNote error={sendings.error ?? resend.error} />
    </>
  );
}

/** What went wrong, what came right again, and whether people were told. */
export function AlertsPage() {
  const client = useQueryClient();
  const { may } = useMe();
  const alerts = usePages(
    ["alerts"],
    (cursor) => must(api.GET("/api/v1/alerts", { params: { query: { cursor } } })),
    15_000,
  );
  const newest = alerts.items[0]?.id;
  useEffect(() => {
    if (!newest) return;
    const seen = () => client.invalidateQueries({ queryKey: ["bell"] });
    void api.POST("/api/v1/bell").then(seen, () => undefined);
  }, [newest, client]);
  const columns: TableColumnsType<AlertRecord> = [
    { title: "At", key: "at", width: 140, render: (_, n) => moment(n.at) },
    {
      title: "Kind",
      key: "kind",
      width: 150,
      render: (_, n) => (
        <span className={good.has(n.kind) ? "" : "flag"} style={{ margin: 0 }}>
          {spaced(n.kind)}
        </span>
      ),
    },
    {
      title: "Alert",
      key: "title",
      render: (_, n) => (
        <>
          <strong style={{ fontWeight: 550 }}>{n.path ? <Link to={n.path}>{n.title}</Link> : n.title}</strong>
          <div className="told">{n.cause}</div>
          {n.next_step && <div className="told dim">{n.next_step}</div>}
        </>
      ),
    },
  ];
  return (
    <div className="page">
      <header className="head">
        <h1>Alerts</h1>
        <p>One alert per problem, one when it is resolved.</p>
      </header>
      <OpenProblems />
      <OwnAlerts />
      <RecordTable<AlertRecord>
        rows={alerts.isPending ? undefined : alerts.items}
        rowKey="id"
        columns={columns}
        empty={<p>Nothing had to be told yet.</p>}
      />
      {alerts.hasNextPage && (
        <Button style={{ marginTop: 12 }} onClick={() => void alerts.fetchNextPage()}>
          Show earlier ones
        </Button>
      )}
      <ProblemNote error={alerts.error} />
      {may("author") && <Sent />}
    </div>
  );
}
