import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Form, Input } from "antd";
import { api, must, type Schedule } from "../../api/client";
import { DayField } from "../../components/DayField";
import { FormDialog } from "../../components/FormDialog";
import { schedulesChanged } from "./useScheduleChanges";

/** Why nothing runs for a while, and until when. */
export function PauseForm({ schedule, onClose }: { schedule: Schedule; onClose: () => void }) {
  const [form] = Form.useForm<{ reason?: string; until?: string }>();
  const client = useQueryClient();
  const pause = useMutation({
    mutationFn: ({ reason, until }: { reason?: string; until?: string }) =>
      must(
        api.POST("/api/v1/schedules/{name}/pause", {
          params: { path: { name: schedule.name } },
          body: { reason: reason ?? "", until: until ? new Date(until).toISOString() : null },
        }),
      ),
    onSuccess: async () => {
      await schedulesChanged(client);
      onClose();
    },
  });
  return (
    <FormDialog
      title={`Pause ${schedule.name}`}
      of={`pause ${schedule.name}`}
      form={form}
      okText="Pause"
      pending={pause.isPending}
      error={pause.error}
      width={440}
      onSend={(fields) => pause.mutateAsync(fields)}
      onClose={onClose}
    >
      <p className="dim">Its due times are recorded as skipped, with the reason, until the pause ends.</p>
      <Form.Item label="Reason" name="reason">
        <Input autoFocus maxLength={200} placeholder="meter swap" />
      </Form.Item>
      <Form.Item label="Until, by this machine’s clock" name="until" extra="Empty: until somebody resumes it.">
        <DayField time />
      </Form.Item>
    </FormDialog>
  );
}
