import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Form, Input, Radio } from "antd";
import { api, must, type RunRecord } from "../../api/client";
import { FormDialog } from "../../components/FormDialog";

interface Fields {
  then: "again" | "elsewhere" | "left";
  into?: string;
  note?: string;
}

/** An author's word on a delivery that did not go well: again, into other folders, or left as it is. */
export function DeliveryChoice({ run, onClose }: { run: RunRecord; onClose: () => void }) {
  const [form] = Form.useForm<Fields>();
  const then = Form.useWatch("then", form);
  const client = useQueryClient();
  const decide = useMutation({
    mutationFn: ({ then, into, note }: Fields) =>
      must(
        api.POST("/api/v1/runs/{number}/delivery", {
          params: { path: { number: run.id } },
          body: { then, into: then === "elsewhere" ? (into ?? "") : "", note: note ?? "" },
        }),
      ),
    onSuccess: async () => {
      await client.invalidateQueries();
      onClose();
    },
  });
  return (
    <FormDialog
      title={`Delivery of run ${run.id}`}
      of={`delivery ${run.id}`}
      form={form}
      first={{ then: "again" }}
      okText={then === "left" ? "Leave it undelivered" : "Deliver now"}
      danger={then === "left"}
      pending={decide.isPending}
      error={decide.error}
      width={500}
      onSend={(fields) => decide.mutateAsync(fields)}
      onClose={onClose}
    >
      <Form.Item name="then" label="What becomes of it">
        <Radio.Group
          style={{ display: "grid", gap: 6 }}
          options={[
            { value: "again", label: `Try again now${run.deliver_into ? `, into ${run.deliver_into}` : ""}` },
            { value: "elsewhere", label: "Into other folders" },
            { value: "left", label: "Leave it undelivered: its files stay in the result store" },
          ]}
        />
      </Form.Item>
      {then === "elsewhere" && (
        <Form.Item
          name="into"
          label="Folders, separated by commas"
          rules={[{ required: true, message: "Name at least one folder." }]}
        >
          <Input maxLength={500} placeholder="regulation/resent" />
        </Form.Item>
      )}
      <Form.Item name="note" label="Note for the record">
        <Input maxLength={400} placeholder="the share is being mended" />
      </Form.Item>
    </FormDialog>
  );
}
