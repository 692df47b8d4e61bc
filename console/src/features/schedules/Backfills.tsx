import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button } from "antd";
import { Link } from "react-router";
import { api, must } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { amount, moment } from "../../lib/words";
import { useMe } from "../session/useMe";

const CALM_MS = 15_000;
const LIVE_MS = 2_000;

/** What was asked for of past due times, newest first; each is cancelled and repeated as one. */
export function Backfills() {
  const client = useQueryClient();
  const { modal } = App.useApp();
  const { may } = useMe();
  const found = useQuery({
    queryKey: ["backfills"],
    queryFn: () => must(api.GET("/api/v1/backfills", { params: { query: { page_size: 10 } } })),
    refetchInterval: (query) => (query.state.data?.results.some((b) => b.state === "in_progress") ? LIVE_MS : CALM_MS),
  });
  const change = useMutation({
    mutationFn: ({ number, verb }: { number: number; verb: "cancel" | "repeat" }) =>
      must<unknown>(api.POST(`/api/v1/backfills/{number}/${verb}`, { params: { path: { number } } })),
    onSettled: () => client.invalidateQueries({ queryKey: ["backfills"] }),
  });
  const cancel = (number: number, left: number) =>
    modal.confirm({
      title: `Cancel backfill ${number}?`,
      content: `${amount(left, "run")} of it ${left === 1 ? "has" : "have"} not ended. What has finished stays.`,
      okText: "Cancel its runs",
      cancelText: "Leave them",
      onOk: () => change.mutateAsync({ number, verb: "cancel" }).catch(() => undefined),
    });
  const rows = found.data?.results ?? [];
  if (!rows.length) return <ProblemNote error={found.error} />;
  return (
    <>
      <h2>Backfills</h2>
      <table className="files">
        <thead>
          <tr>
            <th>Backfill</th>
            <th>Schedule</th>
            <th>Days</th>
            <th>State</th>
            <th>Runs</th>
            <th>By</th>
            <th>
              <span className="sr">Change</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((b) => {
            const left = (b.counts.waiting ?? 0) + (b.counts.queued ?? 0) + (b.counts.running ?? 0);
            return (
              <tr key={b.id}>
                <td>
                  <Link to={`/runs?backfill=${b.id}`}>{b.id}</Link>
                </td>
                <td>{b.schedule}</td>
                <td>
                  {b.from} to {b.to}
                  {!b.deliver && <small> (store only)</small>}
                </td>
                <td>
                  {b.state}
                  {b.cancelled_by && ` by ${b.cancelled_by}`}
                </td>
                <td>
                  {Object.entries(b.counts)
                    .sort()
                    .map(([state, count]) => `${count} ${state}`)
                    .join(", ")}
                </td>
                <td>
                  {b.started_by} <small>{moment(b.started_at)}</small>
                </td>
                <td>
                  {may("runner") &&
                    (left ? (
                      <Button
                        size="small"
                        aria-label={`Cancel backfill ${b.id}`}
                        onClick={() => void cancel(b.id, left)}
                      >
                        Cancel
                      </Button>
                    ) : (
                      <Button
                        size="small"
                        aria-label={`Repeat backfill ${b.id}`}
                        onClick={() => change.mutate({ number: b.id, verb: "repeat" })}
                      >
                        Repeat
                      </Button>
                    ))}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <ProblemNote error={change.error} />
    </>
  );
}
