import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Form, Input, Select } from "antd";
import { useNavigate } from "react-router";
import { api, must, type Extract } from "../../api/client";
import { useSameLanguage } from "../../api/useEngines";
import { FormDialog } from "../../components/FormDialog";

interface Fields {
  name: string;
  folder?: string;
  tags?: string[];
  owner?: string;
  source?: string;
}

/** Name, folder, tags and owner of an extract; or of a copy, which may read another source of the same language. */
export function Filing({
  extract,
  engine,
  copy,
  onClose,
}: {
  extract: Extract;
  engine: string;
  copy: boolean;
  onClose: () => void;
}) {
  const [form] = Form.useForm<Fields>();
  const same = useSameLanguage(engine);
  const go = useNavigate();
  const client = useQueryClient();
  const sources = useQuery({ queryKey: ["sources"], queryFn: () => must(api.GET("/api/v1/sources")) });
  const path = { name: extract.name };
  const save = useMutation({
    mutationFn: async ({ name, folder = "", tags = [], owner, source }: Fields) => {
      if (copy)
        return must(
          api.POST("/api/v1/extracts/{name}/copy", {
            params: { path },
            body: { name, folder, ...(source ? { source } : {}) },
          }),
        );
      await must(
        api.POST("/api/v1/extracts/{name}/details", {
          params: { path },
          body: { tags, ...(owner && owner !== extract.owner ? { owner } : {}) },
        }),
      );
      return must(api.POST("/api/v1/extracts/{name}/move", { params: { path }, body: { name, folder } }));
    },
    onSuccess: (made) => {
      void client.invalidateQueries();
      onClose();
      void go(`/extracts/${made.name}`, { replace: !copy });
    },
  });
  const first: Fields = copy
    ? { name: `${extract.name}_copy`, folder: extract.folder, source: extract.revision.source }
    : { name: extract.name, folder: extract.folder, tags: extract.tags, owner: extract.owner };
  return (
    <FormDialog
      title={copy ? `Copy ${extract.name}` : `Rename or move ${extract.name}`}
      of={`${copy ? "copy" : "file"} ${extract.name}`}
      form={form}
      first={first}
      okText={copy ? "Copy" : "Save"}
      pending={save.isPending}
      error={save.error}
      onSend={(fields) => save.mutateAsync(fields)}
      onClose={onClose}
    >
      <Form.Item
        label="Name"
        name="name"
        rules={[{ required: true, message: "A name is needed." }]}
        extra={copy ? undefined : "The old name keeps working."}
      >
        <Input autoFocus />
      </Form.Item>
      <Form.Item label="Folder" name="folder">
        <Input placeholder="leakage/monthly" />
      </Form.Item>
      {copy ? (
        <Form.Item label="Source" name="source">
          <Select
            options={(sources.data ?? []).filter((s) => same(s.engine)).map((s) => ({ value: s.name, label: s.name }))}
          />
        </Form.Item>
      ) : (
        <>
          <Form.Item label="Tags" name="tags">
            <Select mode="tags" tokenSeparators={[","]} open={false} suffixIcon={null} placeholder="monthly, billing" />
          </Form.Item>
          <Form.Item label="Owner" name="owner">
            <Input />
          </Form.Item>
        </>
      )}
    </FormDialog>
  );
}
