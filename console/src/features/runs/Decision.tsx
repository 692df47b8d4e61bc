import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Form, Input } from "antd";
import { api, must, type RunRecord } from "../../api/client";
import { FormDialog } from "../../components/FormDialog";

/** An author's word on files that a guard holds back, with a note for the record. */
export function Decision({ run, verb, onClose }: { run: RunRecord; verb: "release" | "reject"; onClose: () => void }) {
  const [form] = Form.useForm<{ note?: string }>();
  const client = useQueryClient();
  const decide = useMutation({
    mutationFn: ({ note }: { note?: string }) => {
      const given = { params: { path: { number: run.id } }, body: { note: note ?? "" } };
      return must(
        verb === "release"
          ? api.POST("/api/v1/runs/{number}/release", given)
          : api.POST("/api/v1/runs/{number}/reject", given),
      );
    },
    onSuccess: async () => {
      await client.invalidateQueries();
      onClose();
    },
  });
  return (
    <FormDialog
      title={verb === "release" ? `Release run ${run.id}` : `Reject run ${run.id}`}
      of={`${verb} ${run.id}`}
      form={form}
      okText={verb === "release" ? "Deliver the files" : "Never deliver them"}
      danger={verb === "reject"}
      pending={decide.isPending}
      error={decide.error}
      width={460}
      onSend={(fields) => decide.mutateAsync(fields)}
      onClose={onClose}
    >
      <Form.Item label="Note for the record" name="note">
        <Input autoFocus maxLength={400} placeholder="the meter swap explains it" />
      </Form.Item>
    </FormDialog>
  );
}
