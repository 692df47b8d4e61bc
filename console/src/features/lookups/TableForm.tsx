import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Form, Input } from "antd";
import { api, must, type Lookup } from "../../api/client";
import { FormDialog } from "../../components/FormDialog";

interface Fields {
  name: string;
  note: string;
  text: string;
  key: string;
  change_note: string;
}

/** A whole table: pasted as it was copied out of a spreadsheet, or from a file. None: a new lookup. */
export function TableForm({
  lookup,
  onClose,
  onSaved,
}: {
  lookup: Lookup | null;
  onClose: () => void;
  onSaved?: (saved: Lookup) => void;
}) {
  const client = useQueryClient();
  const [form] = Form.useForm<Fields>();
  const save = useMutation({
    mutationFn: ({ name, note, text, key, change_note }: Fields) => {
      const listed = key
        .split(",")
        .map((each) => each.trim())
        .filter(Boolean);
      const body = {
        note: note ?? "",
        text,
        change_note: change_note ?? "",
        ...(listed.length ? { key: listed } : {}),
      };
      return lookup
        ? must(
            api.PATCH("/api/v1/lookups/{name}", {
              params: { path: { name: lookup.name } },
              headers: { "If-Match": `"${lookup.revision.number}"` },
              body,
            }),
          )
        : must(api.POST("/api/v1/lookups", { body: { name, ...body } }));
    },
    onSuccess: (saved) => {
      void client.invalidateQueries();
      onClose();
      onSaved?.(saved);
    },
  });
  return (
    <FormDialog
      title={lookup ? `Another table for ${lookup.name}` : "New lookup"}
      of={`lookup ${lookup?.name ?? ""}`}
      form={form}
      first={{
        name: lookup?.name ?? "",
        note: lookup?.note ?? "",
        text: "",
        key: lookup?.revision.key.join(", ") ?? "",
        change_note: "",
      }}
      okText="Save"
      pending={save.isPending}
      error={save.error}
      onSend={(fields) => save.mutateAsync(fields)}
      onClose={onClose}
    >
      <Form.Item label="Name" name="name" rules={[{ required: true, message: "A name is needed." }]}>
        <Input disabled={!!lookup} autoFocus={!lookup} placeholder="districts" />
      </Form.Item>
      <Form.Item label="What it is" name="note">
        <Input />
      </Form.Item>
      <Form.Item
        label="Table"
        name="text"
        rules={[{ required: true, message: "A table is needed." }]}
        extra="The first line has the names; copied from a spreadsheet, or with commas or semicolons between values."
      >
        <Input.TextArea className="mono" rows={10} placeholder={"code\tname\nN1\tNorth\nS1\tSouth"} />
      </Form.Item>
      <Form.Item label="Or a file" htmlFor="lookup-file" extra="CSV in UTF-8">
        <input
          id="lookup-file"
          type="file"
          accept=".csv,.tsv,.txt,text/csv"
          onChange={(e) => {
            const file = e.target.files?.[0];
            if (file) void file.text().then((text) => form.setFieldsValue({ text }));
          }}
        />
      </Form.Item>
      <Form.Item label="Key" name="key" extra="Columns in which no two rows are equal; by default the first.">
        <Input className="mono" placeholder="code" />
      </Form.Item>
      {lookup && (
        <Form.Item label="What this save changes" name="change_note">
          <Input />
        </Form.Item>
      )}
    </FormDialog>
  );
}
