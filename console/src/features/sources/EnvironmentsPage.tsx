import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Form, Input } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, must, type Environment } from "../../api/client";
import { FormDialog } from "../../components/FormDialog";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { useRemoval } from "../../components/useRemoval";
import { useMe } from "../session/useMe";

interface Fields {
  name: string;
  note?: string;
}

function EnvironmentForm({ environment, onClose }: { environment: Environment | null; onClose: () => void }) {
  const [form] = Form.useForm<Fields>();
  const client = useQueryClient();
  const save = useMutation({
    mutationFn: ({ name, note = "" }: Fields) =>
      must(
        environment
          ? api.PATCH("/api/v1/environments/{name}", { params: { path: { name: environment.name } }, body: { note } })
          : api.POST("/api/v1/environments", { body: { name, note } }),
      ),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["environments"] });
      onClose();
    },
  });
  return (
    <FormDialog
      title={environment ? `Edit ${environment.name}` : "Add environment"}
      of={`environment ${environment?.name ?? ""}`}
      form={form}
      first={environment ?? {}}
      okText={environment ? "Save" : "Add"}
      pending={save.isPending}
      error={save.error}
      onSend={(fields) => save.mutateAsync(fields)}
      onClose={onClose}
    >
      {!environment && (
        <Form.Item label="Name" name="name" rules={[{ required: true, message: "A name is needed." }]}>
          <Input placeholder="rehearsal" />
        </Form.Item>
      )}
      <Form.Item label="What it is for" name="note">
        <Input placeholder="copies of last week, for trying" />
      </Form.Item>
    </FormDialog>
  );
}

/** The environments there are, and which sources have an address in each. */
export function EnvironmentsPage() {
  const { may } = useMe();
  const [edited, setEdited] = useState<Environment | "new" | null>(null);
  const list = useQuery({ queryKey: ["environments"], queryFn: () => must(api.GET("/api/v1/environments")) });
  const sources = useQuery({ queryKey: ["sources"], queryFn: () => must(api.GET("/api/v1/sources")) });
  const removal = useRemoval("environments", (name: string) =>
    must(api.DELETE("/api/v1/environments/{name}", { params: { path: { name } } })),
  );
  const administers = may("administrator");
  const first = list.data?.[0]?.name;
  return (
    <div className="page">
      <header className="head">
        <h1>Environments</h1>
        <p>The same extract runs in each; every source has an address of its own there.</p>
        <div className="grow" />
        {administers && (
          <Button type="primary" onClick={() => setEdited("new")}>
            Add environment
          </Button>
        )}
      </header>
      <ProblemNote error={list.error ?? sources.error ?? removal.error} />
      <RecordTable<Environment>
        rows={list.data}
        width={640}
        columns={[
          {
            title: "Environment",
            key: "name",
            width: 180,
            render: (_, e) => (
              <>
                {administers ? (
                  <button type="button" className="plain" onClick={() => setEdited(e)}>
                    {e.name}
                  </button>
                ) : (
                  e.name
                )}
                {e.name === first && <span className="dim"> the default</span>}
              </>
            ),
          },
          { title: "What it is for", dataIndex: "note", width: 260 },
          {
            title: "Sources with an address",
            key: "sources",
            render: (_, e) => {
              const there = (sources.data ?? []).filter((s) => s.addresses.some((a) => a.environment === e.name));
              return there.length ? (
                there.map((s, place) => (
                  <span key={s.name}>
                    {place > 0 && ", "}
                    <Link to={`/sources/${s.name}?environment=${e.name}`}>{s.name}</Link>
                  </span>
                ))
              ) : (
                <span className="dim">none yet</span>
              );
            },
          },
          {
            title: <span className="sr">Remove</span>,
            key: "do",
            width: 90,
            render: (_, e) =>
              administers && (
                <Button
                  size="small"
                  aria-label={`Remove ${e.name}`}
                  onClick={() => removal.ask(e.name, `Remove ${e.name}?`, "Only one that nothing has used is removed.")}
                >
                  Remove
                </Button>
              ),
          },
        ]}
        empty={
          <>
            <p>There is no environment yet. Most begin with one that is called live.</p>
            {administers && <Button onClick={() => setEdited("new")}>Add the first one</Button>}
          </>
        }
      />
      {edited && <EnvironmentForm environment={edited === "new" ? null : edited} onClose={() => setEdited(null)} />}
    </div>
  );
}
