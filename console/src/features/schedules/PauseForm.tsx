import { useMutation } from "@tanstack/react-query";
import { Form, Input } from "antd";
import { DayField } from "../../components/DayField";
import { FormDialog } from "../../components/FormDialog";

export interface PauseFields {
  reason: string;
  until: string | null;
}

/** Why nothing runs for a while, and until when. ``what``: the schedule, or how many. */
export function PauseForm({
  what,
  onSend,
  onClose,
}: {
  what: string;
  onSend: (fields: PauseFields) => Promise<unknown>;
  onClose: () => void;
}) {
  const [form] = Form.useForm<Partial<PauseFields>>();
  const pause = useMutation({
    mutationFn: ({ reason, until }: Partial<PauseFields>) =>
      onSend({ reason: reason ?? "", until: until ? new Date(until).toISOString() : null }),
    onSuccess: onClose,
  });
  return (
    <FormDialog
      title={`Pause ${what}`}
      of={`pause ${what}`}
      form={form}
      okText="Pause"
      pending={pause.isPending}
      error={pause.error}
      width={440}
      onSend={(fields) => pause.mutateAsync(fields)}
      onClose={onClose}
    >
      <p className="dim">Due times are recorded as skipped, with the reason, until the pause ends.</p>
      <Form.Item label="Reason" name="reason">
        <Input autoFocus maxLength={200} placeholder="meter swap" />
      </Form.Item>
      <Form.Item label="Until, by this machine’s clock" name="until" extra="Empty: until somebody resumes it.">
        <DayField time />
      </Form.Item>
    </FormDialog>
  );
}
