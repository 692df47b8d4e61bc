import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Form, Input, Modal } from "antd";
import { api, must, type RunRecord } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";

/** An author's word on files that a guard holds back, with a note for the record. */
export function Decision({ run, verb, onClose }: { run: RunRecord; verb: "release" | "reject"; onClose: () => void }) {
  const [form] = Form.useForm<{ note?: string }>();
  const client = useQueryClient();
  const decide = useMutation({
    mutationFn: ({ note }: { note?: string }) => {
      const given = { params: { path: { number: run.id } }, body: { note: note ?? "" } };
      return must(verb === "release" ? api.POST("/api/v1/runs/{number}/release", given) : api.POST("/api/v1/runs/{number}/reject", given));
    },
    onSuccess: async () => {
      await client.invalidateQueries();
      onClose();
    },
  });
  return (
    <Modal open title={verb === "release" ? `Release run ${run.id}` : `Reject run ${run.id}`} okText={verb === "release" ? "Deliver the files" : "Never deliver them"} okButtonProps={{ danger: verb === "reject" }} onCancel={onClose} onOk={form.submit} confirmLoading={decide.isPending} width={460}>
      <Form form={form} layout="vertical" requiredMark={false} onFinish={(fields) => decide.mutate(fields)}>
        <Form.Item label="Note for the record" name="note"><Input autoFocus maxLength={400} placeholder="the meter swap explains it" /></Form.Item>
        <ProblemNote error={decide.error} />
      </Form>
    </Modal>
  );
}
