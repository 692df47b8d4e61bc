import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Form, Input, InputNumber, Select } from "antd";
import { useState } from "react";
import { api, must, type SessionRecord, type TokenRecord } from "../../api/client";
import { usePages } from "../../api/usePages";
import { FormDialog } from "../../components/FormDialog";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { reachable } from "../../components/reachable";
import { useRemoval } from "../../components/useRemoval";
import { moment } from "../../lib/words";
import { OwnAlerts } from "../alerts/OwnAlerts";
import { useMe } from "../session/useMe";
import { LEAST_PASSWORD, roles } from "./roles";
import "./people.css";

interface Passwords {
  old: string;
  fresh: string;
  again: string;
}

function Password() {
  const [form] = Form.useForm<Passwords>();
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: ({ old, fresh }: Passwords) =>
      must(api.PATCH("/api/v1/me", { body: { old_password: old, password: fresh } })),
    onSuccess: () => {
      form.resetFields();
      void client.invalidateQueries({ queryKey: ["sessions"] });
      void client.invalidateQueries({ queryKey: ["tokens"] });
    },
  });
  return (
    <Form
      form={form}
      layout="vertical"
      requiredMark={false}
      className="own-password"
      scrollToFirstError={{ focus: true }}
      onValuesChange={() => change.isSuccess && change.reset()}
      onFinish={(fields: Passwords) => change.mutate(fields)}
    >
      <ProblemNote error={change.error} shown />
      <Form.Item
        label="Your password"
        name="old"
        rules={[{ required: true, message: "The one you have now is needed." }]}
      >
        <Input.Password autoComplete="current-password" />
      </Form.Item>
      <Form.Item
        label="The new one"
        name="fresh"
        extra={`At least ${LEAST_PASSWORD} characters.`}
        rules={[
          { required: true, message: "A new one is needed." },
          { min: LEAST_PASSWORD, message: `At least ${LEAST_PASSWORD} characters.` },
        ]}
      >
        <Input.Password autoComplete="new-password" />
      </Form.Item>
      <Form.Item
        label="The new one once more"
        name="again"
        dependencies={["fresh"]}
        rules={[
          ({ getFieldValue }) => ({
            validator: (_, given) =>
              given === getFieldValue("fresh")
                ? Promise.resolve()
                : Promise.reject(new Error("This differs from the one above.")),
          }),
        ]}
      >
        <Input.Password autoComplete="new-password" />
      </Form.Item>
      <Button htmlType="submit" loading={change.isPending}>
        Change password
      </Button>
      <span role="status" className="said-line">
        {change.isSuccess && "Changed. Every other sign-in and token of yours has ended."}
      </span>
    </Form>
  );
}

function Browsers() {
  const sessions = useQuery({ queryKey: ["sessions"], queryFn: () => must(api.GET("/api/v1/me/sessions")) });
  const removal = useRemoval("sessions", (id: number | "others") =>
    id === "others"
      ? must(api.DELETE("/api/v1/me/sessions"))
      : must(api.DELETE("/api/v1/me/sessions/{number}", { params: { path: { number: id } } })),
  );
  const found = sessions.data ?? [];
  return (
    <>
      <ProblemNote error={sessions.error ?? removal.error} />
      <RecordTable<SessionRecord>
        rows={sessions.data}
        rowKey="id"
        width={560}
        components={reachable}
        columns={[
          {
            title: "Browser",
            key: "browser",
            render: (_, s) => (
              <>
                {s.browser}
                {s.current && <b> (this one)</b>}
              </>
            ),
          },
          {
            title: "From",
            dataIndex: "address",
            width: 150,
            render: (at: string) => <span className="mono">{at}</span>,
          },
          { title: "Signed in", key: "made", width: 150, render: (_, s) => moment(s.made_at) },
          { title: "Last seen", key: "seen", width: 150, render: (_, s) => moment(s.seen_at) },
          {
            title: <span className="sr">Sign out</span>,
            key: "do",
            width: 90,
            render: (_, s) =>
              !s.current && (
                <Button
                  size="small"
                  aria-label={`Sign out ${s.browser}, signed in ${moment(s.made_at)}`}
                  onClick={() => removal.ask(s.id, `Sign out ${s.browser}?`, "Drafts of yours stay.", "Sign out")}
                >
                  Sign out
                </Button>
              ),
          },
        ]}
      />
      {found.filter((s) => !s.current).length > 1 && (
        <Button
          style={{ marginTop: 8 }}
          onClick={() => removal.ask("others", "Sign out all other browsers?", "Drafts of yours stay.", "Sign out all")}
        >
          Sign out all others
        </Button>
      )}
    </>
  );
}

interface TokenFields {
  name: string;
  role: string;
  days?: number | null;
}

function TokenForm({ onMade, onClose }: { onMade: (made: TokenRecord) => void; onClose: () => void }) {
  const [form] = Form.useForm<TokenFields>();
  const client = useQueryClient();
  const { me, may } = useMe();
  const make = useMutation({
    mutationFn: ({ name, role, days }: TokenFields) =>
      must(api.POST("/api/v1/tokens", { body: { name, role, ...(days ? { days } : {}) } })),
    onSuccess: (made) => {
      void client.invalidateQueries({ queryKey: ["tokens"] });
      onMade(made);
      onClose();
    },
  });
  return (
    <FormDialog
      title="Make a token"
      of="token"
      form={form}
      first={{ role: me.data?.role, days: 365 }}
      okText="Make"
      pending={make.isPending}
      error={make.error}
      onSend={(fields) => make.mutateAsync(fields)}
      onClose={onClose}
    >
      <Form.Item label="What it is for" name="name" rules={[{ required: true, message: "Say what it is for." }]}>
        <Input placeholder="nightly-job" maxLength={64} />
      </Form.Item>
      <Form.Item label="Role" name="role" extra="At most your own.">
        <Select
          options={roles
            .filter(([role]) => may(role))
            .map(([value, words]) => ({ value, label: `${value}: ${words}` }))}
        />
      </Form.Item>
      <Form.Item label="Days until it expires" name="days" extra="Empty: never.">
        <InputNumber min={1} max={3650} style={{ width: 160 }} />
      </Form.Item>
    </FormDialog>
  );
}

function Tokens() {
  const { me, may } = useMe();
  const [making, setMaking] = useState(false);
  const [made, setMade] = useState<TokenRecord | null>(null);
  const tokens = usePages(
    ["tokens"],
    (cursor) => must(api.GET("/api/v1/tokens", { params: { query: { cursor } } })),
    30_000,
  );
  const removal = useRemoval("tokens", (id: number) =>
    must(api.DELETE("/api/v1/tokens/{token_id}", { params: { path: { token_id: id } } })),
  );
  const all = may("administrator");
  return (
    <>
      {made && (
        <Alert
          type="success"
          closable={{ onClose: () => setMade(null) }}
          title={`The token '${made.name}', shown this once:`}
          description={
            <>
              <code className="secret">{made.secret}</code>{" "}
              <Button size="small" onClick={() => void navigator.clipboard.writeText(made.secret)}>
                Copy
              </Button>
              <div>Keep it where its program finds it as LADLE_TOKEN.</div>
            </>
          }
        />
      )}
      <ProblemNote error={tokens.error ?? removal.error} />
      <RecordTable<TokenRecord>
        rows={tokens.isPending ? undefined : tokens.items}
        rowKey="id"
        width={720}
        components={reachable}
        columns={[
          {
            title: "For",
            key: "name",
            render: (_, t) => (
              <>
                {t.name} <span className="mono dim">{t.prefix}…</span>
              </>
            ),
          },
          ...(all ? [{ title: "Person", dataIndex: "person", width: 110 }] : []),
          { title: "Role", dataIndex: "role", width: 120 },
          {
            title: "Expires",
            key: "expires",
            width: 150,
            render: (_, t) => (t.expires_at ? moment(t.expires_at) : "never"),
          },
          {
            title: "Last used",
            key: "used",
            width: 150,
            render: (_, t) => (t.last_used_at ? moment(t.last_used_at) : <span className="dim">never</span>),
          },
          {
            title: <span className="sr">Revoke</span>,
            key: "do",
            width: 90,
            render: (_, t) =>
              t.revoked_at ? (
                <span className="dim">revoked</span>
              ) : (
                <Button
                  size="small"
                  aria-label={`Revoke ${t.name} ${t.prefix}`}
                  onClick={() =>
                    removal.ask(t.id, `Revoke ${t.name}?`, "What signs in with it is refused from then on.", "Revoke")
                  }
                >
                  Revoke
                </Button>
              ),
          },
        ]}
        empty={<p>No program signs in as {me.data?.name} yet. The command line makes itself one: ladle sign-in.</p>}
      />
      <div className="filters" style={{ marginTop: 8 }}>
        <Button onClick={() => setMaking(true)}>Make a token</Button>
        {tokens.hasNextPage && <Button onClick={() => void tokens.fetchNextPage()}>Show earlier ones</Button>}
      </div>
      {making && <TokenForm onMade={setMade} onClose={() => setMaking(false)} />}
    </>
  );
}

/** What is one's own: password, sign-ins, tokens, and what one is told of. */
export function AccountPage() {
  const { me, may } = useMe();
  return (
    <div className="page">
      <header className="head">
        <h1>Your account</h1>
        <p>
          {me.data?.name}, {me.data?.role}
        </p>
      </header>
      <h2>Alerts</h2>
      <OwnAlerts />
      <h2>Browsers in which you are signed in</h2>
      <Browsers />
      <h2>{may("administrator") ? "Everybody’s tokens" : "Tokens of your programs"}</h2>
      <Tokens />
      <h2>Password</h2>
      <Password />
    </div>
  );
}
