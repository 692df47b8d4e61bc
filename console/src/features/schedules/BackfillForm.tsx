import { useState } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Checkbox } from "antd";
import { Link } from "react-router";
import { api, must, type Schedule } from "../../api/client";
import { DayField } from "../../components/DayField";
import { Dialog } from "../../components/Dialog";
import { ProblemNote } from "../../components/ProblemNote";
import { amount, momentIn } from "../../lib/words";

const day = (back: number) => new Date(Date.now() - back * 86_400_000).toISOString().slice(0, 10);

/** Past due times: what a backfill would do about each, then the backfill. */
export function BackfillForm({ schedule, onClose }: { schedule: Schedule; onClose: () => void }) {
  const [from, setFrom] = useState(day(7));
  const [to, setTo] = useState(day(1));
  const [again, setAgain] = useState(false);
  const [deliver, setDeliver] = useState(true);
  const client = useQueryClient();
  const { message } = App.useApp();
  const params = { path: { name: schedule.name } };
  const plan = useQuery({
    queryKey: ["backfill", schedule.name, from, to, again, deliver],
    enabled: !!from && !!to,
    retry: false,
    queryFn: () =>
      must(
        api.GET("/api/v1/schedules/{name}/backfill", { params: { ...params, query: { from, to, again, deliver } } }),
      ),
  });
  const wanted = plan.data?.filter((p) => p.runs).length ?? 0;
  const start = useMutation({
    mutationFn: () =>
      must(api.POST("/api/v1/schedules/{name}/backfill", { params, body: { from, to, again, deliver } })),
    onSuccess: async (made) => {
      void message.success(`Backfill ${made.id}: ${amount(made.runs.length, "run")} queued at low priority.`);
      await client.invalidateQueries();
      onClose();
    },
  });
  return (
    <Dialog
      what="This backfill"
      title={`Backfill ${schedule.name}`}
      okText={`Start ${amount(wanted, "run")}`}
      okButtonProps={{ disabled: !wanted }}
      onCancel={onClose}
      onOk={() => start.mutate()}
      confirmLoading={start.isPending}
      width={720}
    >
      <div className="filters">
        <label>
          From <DayField value={from} onChange={setFrom} width={150} />
        </label>
        <label>
          to <DayField value={to} onChange={setTo} width={150} />
        </label>
        <Checkbox checked={again} onChange={(e) => setAgain(e.target.checked)}>
          Also those that have finished
        </Checkbox>
        <Checkbox checked={!deliver} onChange={(e) => setDeliver(!e.target.checked)}>
          Keep results in the store only
        </Checkbox>
      </div>
      {plan.data && !plan.data.length && <p className="dim">No due time of this schedule lies in those days.</p>}
      {!!plan.data?.length && (
        <div style={{ maxHeight: 340, overflow: "auto", marginTop: 12 }} tabIndex={0} aria-label="What it would do">
          <table className="files">
            <thead>
              <tr>
                <th>Due</th>
                <th>Data date</th>
                <th>Would</th>
                <th>Why</th>
              </tr>
            </thead>
            <tbody>
              {plan.data.map((p) => (
                <tr key={p.due_at}>
                  <td>{momentIn(p.due_at, schedule.zone)}</td>
                  <td>{p.data_date}</td>
                  <td>{p.runs ? "run" : <span className="dim">leave</span>}</td>
                  <td>{p.run ? <Link to={`/runs/${p.run}`}>{p.why}</Link> : p.why}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <ProblemNote error={plan.error ?? start.error} />
    </Dialog>
  );
}
