import { useMutation, useQuery } from "@tanstack/react-query";
import { Form, Input, Modal, Select } from "antd";
import { useNavigate } from "react-router";
import { api, must } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";

interface Fields { name: string; folder?: string; source?: string; statement: string }

/** Name, folder, source and a first statement; the rest is on the extract's own page. */
export function NewExtract({ onClose }: { onClose: () => void }) {
  const [form] = Form.useForm<Fields>();
  const go = useNavigate();
  const sources = useQuery({ queryKey: ["sources"], queryFn: () => must(api.GET("/api/v1/sources")) });
  const add = useMutation({
    mutationFn: ({ folder, ...fields }: Fields) => must(api.POST("/api/v1/extracts", { body: { ...fields, source: fields.source ?? "", folder: folder ?? "", change_note: "first save" } })),
    onSuccess: (made) => void go(`/extracts/${made.name}`),
  });
  return (
    <Modal open title="New extract" okText="Save" onCancel={onClose} onOk={form.submit} confirmLoading={add.isPending} width={640}>
      <Form form={form} layout="vertical" requiredMark={false} onFinish={(fields) => add.mutate(fields)} initialValues={{ statement: "select " }}>
        <Form.Item label="Name" name="name" rules={[{ required: true, message: "A name is needed." }]}><Input autoFocus placeholder="burst_history" /></Form.Item>
        <Form.Item label="Folder" name="folder"><Input placeholder="leakage/monthly" /></Form.Item>
        <Form.Item label="Source" name="source" extra="None: it computes from its values alone, in SQL of DuckDB.">
          <Select allowClear options={(sources.data ?? []).map((s) => ({ value: s.name, label: `${s.name} (${s.engine})` }))} />
        </Form.Item>
        <Form.Item label="Statement" name="statement" rules={[{ required: true, message: "A statement is needed." }]}><Input.TextArea rows={6} className="mono" /></Form.Item>
        <ProblemNote error={add.error} />
      </Form>
    </Modal>
  );
}
