import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Form, Input } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, must, type SharedValue } from "../../api/client";
import { FormDialog } from "../../components/FormDialog";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { useRemoval } from "../../components/useRemoval";
import { moment } from "../../lib/words";
import { useMe } from "../session/useMe";

const shown = (value: unknown): string =>
  value === undefined || value === null
    ? ""
    : Array.isArray(value)
      ? value.join(", ")
      : typeof value === "string"
        ? value
        : JSON.stringify(value);

/** A text as given; several values separated by commas or line breaks make a list when the value was one, or is asked to be. */
function ValueForm({
  value,
  environments,
  onClose,
}: {
  value: SharedValue | null;
  environments: string[];
  onClose: () => void;
}) {
  const client = useQueryClient();
  const [form] = Form.useForm<{ name: string; note: string } & Record<string, string>>();
  const lists = new Set(environments.filter((name) => Array.isArray(value?.values[name])));
  const save = useMutation({
    mutationFn: ({ name, note, ...fields }: { name: string; note: string } & Record<string, string>) => {
      const values = Object.fromEntries(
        environments.map((environment) => {
          const given = fields[`in ${environment}`] ?? "";
          const parts = given
            .split(/[\n\t]/)
            .map((part) => part.trim())
            .filter(Boolean);
          if (!given) return [environment, null];
          return [
            environment,
            parts.length > 1
              ? parts
              : lists.has(environment)
                ? given
                    .split(",")
                    .map((part) => part.trim())
                    .filter(Boolean)
                : given,
          ];
        }),
      );
      return must(
        api.PATCH("/api/v1/values/{name}", { params: { path: { name } }, body: { values, note: note ?? "" } }),
      );
    },
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["values"] });
      onClose();
    },
  });
  const first = {
    name: value?.name ?? "",
    note: value?.note ?? "",
    ...Object.fromEntries(environments.map((name) => [`in ${name}`, shown(value?.values[name])])),
  };
  return (
    <FormDialog
      title={value ? value.name : "New shared value"}
      of={`value ${value?.name ?? ""}`}
      form={form}
      first={first}
      okText="Save"
      pending={save.isPending}
      error={save.error}
      onSend={(fields) => save.mutateAsync(fields)}
      onClose={onClose}
    >
      <Form.Item label="Name" name="name" rules={[{ required: true, message: "A name is needed." }]}>
        <Input disabled={!!value} autoFocus={!value} placeholder="leak_rate" />
      </Form.Item>
      {environments.map((name) => (
        <Form.Item
          key={name}
          label={`In ${name}`}
          name={`in ${name}`}
          extra={lists.has(name) ? "A list: separated by commas." : undefined}
        >
          <Input.TextArea autoSize={{ minRows: 1, maxRows: 8 }} placeholder="a value; or several, one a line" />
        </Form.Item>
      ))}
      <Form.Item label="What it is" name="note">
        <Input />
      </Form.Item>
    </FormDialog>
  );
}

/** Shared values by environment, and who uses which. */
export function ValuesPage() {
  const { may } = useMe();
  const [edited, setEdited] = useState<SharedValue | null | "new">(null);
  const list = useQuery({ queryKey: ["values"], queryFn: () => must(api.GET("/api/v1/values")) });
  const environments = useQuery({ queryKey: ["environments"], queryFn: () => must(api.GET("/api/v1/environments")) });
  const removal = useRemoval("values", (name: string) =>
    must(api.DELETE("/api/v1/values/{name}", { params: { path: { name } } })),
  );
  const names = (environments.data ?? []).map((e) => e.name);
  return (
    <div className="page">
      <header className="head">
        <h1>Values</h1>
        <p>Kept once, by environment, and used as the default of parameters.</p>
        <div className="grow" />
        {may("author") && (
          <Button type="primary" onClick={() => setEdited("new")}>
            Add value
          </Button>
        )}
      </header>
      <ProblemNote error={list.error ?? removal.error} />
      <RecordTable<SharedValue>
        rows={list.data}
        width={800}
        columns={[
          {
            title: "Value",
            key: "name",
            width: 180,
            render: (_, v) =>
              may("author") ? (
                <button type="button" className="plain" onClick={() => setEdited(v)}>
                  {v.name}
                </button>
              ) : (
                v.name
              ),
          },
          ...names.map((name) => ({
            title: `In ${name}`,
            key: name,
            render: (_: unknown, v: SharedValue) =>
              v.values[name] === undefined ? (
                <span className="dim">none</span>
              ) : (
                <span className="mono">{shown(v.values[name])}</span>
              ),
          })),
          {
            title: "Used by",
            key: "used",
            render: (_, v) =>
              v.used_by.length ? (
                v.used_by.map((use) => (
                  <div key={`${use.extract} ${use.parameter}`}>
                    <Link to={`/extracts/${use.extract}`}>{use.extract}</Link>{" "}
                    <span className="mono dim">:{use.parameter}</span>
                  </div>
                ))
              ) : (
                <span className="dim">nothing yet</span>
              ),
          },
          { title: "What it is", dataIndex: "note" },
          {
            title: "Changed",
            key: "at",
            width: 190,
            render: (_, v) => (
              <span className="dim">
                {moment(v.changed_at)} by {v.changed_by}
              </span>
            ),
          },
          {
            title: <span className="sr">Remove</span>,
            key: "do",
            width: 90,
            render: (_, v) =>
              may("author") && (
                <Button
                  size="small"
                  aria-label={`Remove ${v.name}`}
                  onClick={() => removal.ask(v.name, `Remove ${v.name}?`, "Its values in every environment are gone.")}
                >
                  Remove
                </Button>
              ),
          },
        ]}
        empty={
          <>
            <p>
              Nothing is shared yet. A rate, a list of zones, a threshold: set it here once, and name it in a parameter.
            </p>
            {may("author") && <Button onClick={() => setEdited("new")}>Add the first one</Button>}
          </>
        }
      />
      {edited && environments.data && (
        <ValueForm value={edited === "new" ? null : edited} environments={names} onClose={() => setEdited(null)} />
      )}
    </div>
  );
}
