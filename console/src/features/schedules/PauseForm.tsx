import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Form, Input, Modal } from "antd";
import { api, must, type Schedule } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";

/** Why nothing runs for a while, and until when. */
export function PauseForm({ schedule, onClose }: { schedule: Schedule; onClose: () => void }) {
  const [form] = Form.useForm<{ reason?: string; until?: string }>();
  const client = useQueryClient();
  const pause = useMutation({
    mutationFn: ({ reason, until }: { reason?: string; until?: string }) => must(api.POST("/api/v1/schedules/{name}/pause", { params: { path: { name: schedule.name } }, body: { reason: reason ?? "", until: until ? new Date(until).toISOString() : null } })),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["schedules"] });
      onClose();
    },
  });
  return (
    <Modal open title={`Pause ${schedule.name}`} okText="Pause" onCancel={onClose} onOk={form.submit} confirmLoading={pause.isPending} width={440}>
      <p className="dim">Its due times are recorded as skipped, with the reason, until the pause ends.</p>
      <Form form={form} layout="vertical" requiredMark={false} onFinish={(fields) => pause.mutate(fields)}>
        <Form.Item label="Reason" name="reason"><Input autoFocus maxLength={200} placeholder="meter swap" /></Form.Item>
        <Form.Item label="Until, by this machine’s clock" name="until" extra="Empty: until somebody resumes it."><Input type="datetime-local" /></Form.Item>
        <ProblemNote error={pause.error} />
      </Form>
    </Modal>
  );
}
