import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Form, Input, Select } from "antd";
import { useState } from "react";
import { api, must, type PeopleGroup } from "../../api/client";
import { FormDialog } from "../../components/FormDialog";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { useRemoval } from "../../components/useRemoval";
import { roles } from "./roles";

interface Fields {
  name: string;
  role: string;
  note?: string;
  members?: string[];
}

interface FormProps {
  group: PeopleGroup | null;
  people: string[];
  onClose: () => void;
}

/** A new group, or another role, note and members of one. */
function GroupForm({ group, people, onClose }: FormProps) {
  const [form] = Form.useForm<Fields>();
  const client = useQueryClient();
  const save = useMutation({
    mutationFn: async ({ name, role, note = "", members = [] }: Fields) =>
      group
        ? must(
            api.PATCH("/api/v1/groups/{name}", {
              params: { path: { name: group.name } },
              body: { role, note, members },
            }),
          )
        : must(api.POST("/api/v1/groups", { body: { name, role, note, members } })),
    onSuccess: async () => {
      await Promise.all(["groups", "people"].map((key) => client.invalidateQueries({ queryKey: [key] })));
      onClose();
    },
  });
  return (
    <FormDialog
      title={group ? `Edit group ${group.name}` : "Add group"}
      of={`group ${group?.name ?? ""}`}
      form={form}
      first={group ?? { role: "reader", members: [] }}
      okText={group ? "Save" : "Add"}
      pending={save.isPending}
      error={save.error}
      onSend={(fields) => save.mutateAsync(fields)}
      onClose={onClose}
    >
      <Form.Item
        label="Name"
        name="name"
        hidden={!!group}
        extra="Small letters, digits and . _ -"
        rules={[{ required: true, message: "A name is needed." }]}
      >
        <Input autoComplete="off" placeholder="analysts" />
      </Form.Item>
      <Form.Item label="Role" name="role" extra="Every member has at least this one.">
        <Select options={roles.map(([value, words]) => ({ value, label: `${value}: ${words}` }))} />
      </Form.Item>
      <Form.Item label="Members" name="members">
        <Select mode="multiple" placeholder="nobody yet" options={people.map((value) => ({ value, label: value }))} />
      </Form.Item>
      <Form.Item label="What it is" name="note">
        <Input maxLength={400} />
      </Form.Item>
    </FormDialog>
  );
}

/** Groups of people: each gives its members a role. */
export function Groups({ people }: { people: string[] }) {
  const [edited, setEdited] = useState<PeopleGroup | "new" | null>(null);
  const list = useQuery({ queryKey: ["groups"], queryFn: () => must(api.GET("/api/v1/groups")) });
  const removal = useRemoval(["groups", "people"], (name: string) =>
    must(api.DELETE("/api/v1/groups/{name}", { params: { path: { name } } })),
  );
  return (
    <>
      <header className="head">
        <h2>Groups</h2>
        <p>Whoever is in one has at least its role.</p>
        <div className="grow" />
        <Button onClick={() => setEdited("new")}>Add group</Button>
      </header>
      <ProblemNote error={list.error ?? removal.error} />
      <RecordTable<PeopleGroup>
        rows={list.data}
        width={640}
        columns={[
          {
            title: "Group",
            key: "name",
            width: 180,
            render: (_, g) => (
              <button type="button" className="plain" onClick={() => setEdited(g)}>
                {g.name}
              </button>
            ),
          },
          { title: "Role", dataIndex: "role", width: 130 },
          {
            title: "Members",
            key: "members",
            render: (_, g) => g.members.join(", ") || <span className="dim">nobody yet</span>,
          },
          { title: "What it is", dataIndex: "note" },
          {
            title: <span className="sr">Remove</span>,
            key: "do",
            width: 90,
            render: (_, g) => (
              <Button
                size="small"
                aria-label={`Remove group ${g.name}`}
                onClick={() => removal.ask(g.name, `Remove group ${g.name}?`, "Its members keep their own roles.")}
              >
                Remove
              </Button>
            ),
          },
        ]}
        empty={<p>Several people who may do the same are a group: a role is given to all of them at once.</p>}
      />
      {edited && <GroupForm group={edited === "new" ? null : edited} people={people} onClose={() => setEdited(null)} />}
    </>
  );
}
