import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Form, Input, Select, Switch } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, must, type Person } from "../../api/client";
import { FormDialog } from "../../components/FormDialog";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { moment } from "../../lib/words";
import { useMe } from "../session/useMe";
import { Groups } from "./Groups";
import { LEAST_PASSWORD, roles } from "./roles";
import "./people.css";

interface Fields {
  name: string;
  role: string;
  password?: string;
  active: boolean;
}

/** A new person, or another role, a new password, and whether somebody may sign in. */
function PersonForm({ person, onClose }: { person: Person | null; onClose: () => void }) {
  const [form] = Form.useForm<Fields>();
  const client = useQueryClient();
  const { me } = useMe();
  const save = useMutation({
    mutationFn: async ({ name, role, password, active }: Fields) =>
      person
        ? must(
            api.PATCH("/api/v1/people/{name}", {
              params: { path: { name: person.name } },
              body: { role, active, ...(password ? { password } : {}) },
            }),
          )
        : must(api.POST("/api/v1/people", { body: { name, role, password: password ?? "" } })),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["people"] });
      onClose();
    },
  });
  return (
    <FormDialog
      title={person ? `Edit ${person.name}` : "Add person"}
      of={`person ${person?.name ?? ""}`}
      form={form}
      first={person ? { ...person, role: person.own_role } : { role: "reader", active: true }}
      okText={person ? "Save" : "Add"}
      pending={save.isPending}
      error={save.error}
      onSend={(fields) => save.mutateAsync(fields)}
      onClose={onClose}
    >
      {!person && (
        <Form.Item
          label="Name"
          name="name"
          extra="Small letters, digits and . _ -"
          rules={[{ required: true, message: "A name is needed." }]}
        >
          <Input autoComplete="off" />
        </Form.Item>
      )}
      <Form.Item
        label="Role"
        name="role"
        extra={
          person?.groups.length ? `Theirs alone. In ${person.groups.join(", ")} they are ${person.role}.` : undefined
        }
      >
        <Select options={roles.map(([value, words]) => ({ value, label: `${value}: ${words}` }))} />
      </Form.Item>
      <Form.Item
        label={person ? "New password" : "Password"}
        name="password"
        extra={
          person
            ? "Empty: it stays. A new one ends every sign-in and token of theirs."
            : `At least ${LEAST_PASSWORD} characters; they can change it themselves.`
        }
        rules={[
          { required: !person, message: "A password is needed." },
          { min: LEAST_PASSWORD, message: `At least ${LEAST_PASSWORD} characters.` },
        ]}
      >
        <Input.Password autoComplete="new-password" />
      </Form.Item>
      {person && person.name !== me.data?.name && (
        <Form.Item
          label="May sign in"
          name="active"
          valuePropName="checked"
          extra="When not, all their sign-ins and tokens end; what they made stays, and their schedules go on."
        >
          <Switch aria-label="May sign in" />
        </Form.Item>
      )}
    </FormDialog>
  );
}

/** Everybody who may sign in, with what they may do. */
export function PeoplePage() {
  const { me, may } = useMe();
  const [edited, setEdited] = useState<Person | "new" | null>(null);
  const people = useQuery({
    queryKey: ["people"],
    enabled: may("administrator"),
    queryFn: () => must(api.GET("/api/v1/people")),
  });
  return (
    <div className="page">
      <header className="head">
        <h1>People</h1>
        <p>Who may sign in, and what each may do.</p>
        <div className="grow" />
        {may("administrator") && (
          <Button type="primary" onClick={() => setEdited("new")}>
            Add person
          </Button>
        )}
      </header>
      {!may("administrator") && (
        <p>
          People are looked after by administrators. What is yours:{" "}
          <Link className="in-text" to="/account">
            your account
          </Link>
          .
        </p>
      )}
      <ProblemNote error={people.error} />
      {may("administrator") && (
        <RecordTable<Person>
          rows={people.data}
          width={760}
          columns={[
            {
              title: "Name",
              key: "name",
              render: (_, p) => (
                <button type="button" className="plain" onClick={() => setEdited(p)}>
                  {p.name}
                  {p.name === me.data?.name && " (you)"}
                </button>
              ),
            },
            {
              title: "Role",
              key: "role",
              width: 190,
              render: (_, p) => (
                <>
                  {p.role}
                  {p.role !== p.own_role && <div className="dim">alone {p.own_role}</div>}
                </>
              ),
            },
            { title: "Groups", key: "groups", render: (_, p) => p.groups.join(", ") },
            {
              title: "May sign in",
              key: "active",
              width: 110,
              render: (_, p) => (p.active ? "yes" : <b>no</b>),
            },
            { title: "Sign-ins now", dataIndex: "sign_ins", width: 110, align: "right" },
            {
              title: "Last seen",
              key: "seen",
              width: 160,
              render: (_, p) => (p.seen_at ? moment(p.seen_at) : <span className="dim">never</span>),
            },
            {
              title: "Since",
              key: "since",
              width: 160,
              render: (_, p) => <span className="dim">{moment(p.created_at)}</span>,
            },
          ]}
        />
      )}
      {may("administrator") && <Groups people={(people.data ?? []).map((p) => p.name)} />}
      <h2>Roles</h2>
      <dl className="roles">
        {roles.map(([name, words]) => (
          <div key={name}>
            <dt>{name}</dt>
            <dd>{words}</dd>
          </div>
        ))}
      </dl>
      <p className="dim">Each role may do what the ones above it may.</p>
      {edited && <PersonForm person={edited === "new" ? null : edited} onClose={() => setEdited(null)} />}
    </div>
  );
}
