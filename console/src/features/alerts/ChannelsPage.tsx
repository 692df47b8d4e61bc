import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Checkbox, Form, Input, Select, Switch, Table } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, must, type ChannelKind, type ChannelRecord } from "../../api/client";
import { FormDialog } from "../../components/FormDialog";
import { ProblemNote } from "../../components/ProblemNote";
import { useRemoval } from "../../components/useRemoval";
import { spaced } from "../../lib/words";
import { useMe } from "../session/useMe";

interface Fields {
  name: string;
  kind: string;
  settings: Record<string, string>;
  secret?: string;
  kinds: string[];
  active: boolean;
  for_people: boolean;
}

/** Where alerts go: the settings of its kind, which alerts, and whether it may be used for one person's mail. */
function ChannelForm({
  channel,
  kinds,
  onClose,
}: {
  channel: ChannelRecord | null;
  kinds: ChannelKind[];
  onClose: () => void;
}) {
  const [form] = Form.useForm<Fields>();
  const client = useQueryClient();
  const chosen = Form.useWatch("kind", form) ?? channel?.kind ?? kinds[0]?.name;
  const kind = kinds.find((each) => each.name === chosen);
  const save = useMutation({
    mutationFn: ({ name, kind: of, settings = {}, secret, ...rest }: Fields) => {
      const given = Object.fromEntries(Object.entries(settings).filter(([, value]) => value));
      const body = { settings: given, ...(secret ? { secret } : {}), kinds: rest.kinds, for_people: rest.for_people };
      return must(
        channel
          ? api.PATCH("/api/v1/channels/{name}", {
              params: { path: { name: channel.name } },
              body: { ...body, active: rest.active },
            })
          : api.POST("/api/v1/channels", { body: { name, kind: of, ...body } }),
      );
    },
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["channels"] });
      onClose();
    },
  });
  const defaults = Object.fromEntries((kind?.settings ?? []).map((setting) => [setting.name, setting.default]));
  return (
    <FormDialog
      title={channel ? `Edit ${channel.name}` : "Add channel"}
      of={`channel ${channel?.name ?? ""}`}
      form={form}
      first={channel ?? { kind: kinds[0]?.name, settings: defaults, kinds: [], for_people: false }}
      okText={channel ? "Save" : "Add"}
      pending={save.isPending}
      error={save.error}
      onSend={(fields) => save.mutateAsync(fields)}
      onClose={onClose}
    >
      {!channel && (
        <>
          <Form.Item label="Name" name="name" rules={[{ required: true, message: "A name is needed." }]}>
            <Input placeholder="duty" />
          </Form.Item>
          <Form.Item label="Kind" name="kind" extra={kind?.note}>
            <Select options={kinds.map((each) => ({ value: each.name, label: each.name }))} />
          </Form.Item>
        </>
      )}
      {kind?.settings.map((setting) => (
        <Form.Item
          key={`${kind.name} ${setting.name}`}
          label={setting.name}
          name={["settings", setting.name]}
          extra={setting.note}
          rules={setting.required ? [{ required: true, message: `${setting.name} is needed.` }] : []}
        >
          <Input placeholder={setting.default} />
        </Form.Item>
      ))}
      <Form.Item
        label={kind?.secret ? `Secret: ${kind.secret}` : "Secret"}
        name="secret"
        extra={channel?.has_secret ? "Empty: the one that is kept stays." : undefined}
      >
        <Input.Password autoComplete="off" />
      </Form.Item>
      <Form.Item label="Alerts" name="kinds" extra="None chosen: all of them.">
        <Select mode="multiple" options={(kind?.alerts ?? []).map((value) => ({ value, label: spaced(value) }))} />
      </Form.Item>
      <Form.Item name="for_people" valuePropName="checked">
        <Checkbox>Takes alerts to single people by mail</Checkbox>
      </Form.Item>
      {channel && (
        <Form.Item label="In use" name="active" valuePropName="checked">
          <Switch aria-label="In use" />
        </Form.Item>
      )}
    </FormDialog>
  );
}

/** The channels on which alerts are sent. */
export function ChannelsPage() {
  const { may } = useMe();
  const administers = may("administrator");
  const client = useQueryClient();
  const [edited, setEdited] = useState<ChannelRecord | "new" | null>(null);
  const list = useQuery({
    queryKey: ["channels"],
    enabled: may("author"),
    queryFn: () => must(api.GET("/api/v1/channels")),
  });
  const kinds = useQuery({ queryKey: ["channel-kinds"], queryFn: () => must(api.GET("/api/v1/channel-kinds")) });
  const attempt = useMutation({
    mutationFn: (name: string) => must(api.POST("/api/v1/channels/{name}/test", { params: { path: { name } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["sendings"] }),
  });
  const removal = useRemoval("channels", (name: string) =>
    must(api.DELETE("/api/v1/channels/{name}", { params: { path: { name } } })),
  );
  if (!may("author"))
    return (
      <div className="page">
        <h1>Channels</h1>
        <p>Channels are shown to authors, and looked after by administrators.</p>
      </div>
    );
  return (
    <div className="page">
      <header className="head">
        <h1>Channels</h1>
        <p>
          Where alerts are sent. What was sent stands under{" "}
          <Link className="in-text" to="/alerts">
            Alerts
          </Link>
          .
        </p>
        <div className="grow" />
        {administers && (
          <Button type="primary" disabled={!kinds.data} onClick={() => setEdited("new")}>
            Add channel
          </Button>
        )}
      </header>
      <ProblemNote error={list.error ?? kinds.error ?? attempt.error ?? removal.error} />
      <p role="status" className="said-line" style={attempt.isSuccess ? {} : { margin: 0 }}>
        {attempt.isSuccess && (
          <span>
            A test is on its way to {attempt.data.channel}.{" "}
            <Link className="in-text" to="/alerts">
              See what came back
            </Link>
          </span>
        )}
      </p>
      <Table<ChannelRecord>
        size="small"
        rowKey="name"
        dataSource={list.data ?? []}
        pagination={false}
        loading={list.isPending}
        {...(list.data?.length ? { scroll: { x: 720 } } : {})}
        columns={[
          {
            title: "Channel",
            key: "name",
            width: 150,
            render: (_, c) =>
              administers ? (
                <button type="button" className="plain" disabled={!kinds.data} onClick={() => setEdited(c)}>
                  {c.name}
                </button>
              ) : (
                c.name
              ),
          },
          { title: "Kind", dataIndex: "kind", width: 90 },
          { title: "To", key: "to", render: (_, c) => <span className="mono">{c.settings.to ?? c.settings.url}</span> },
          { title: "Alerts", key: "kinds", render: (_, c) => c.kinds.map(spaced).join(", ") || "all" },
          {
            title: "For people",
            key: "people",
            width: 90,
            render: (_, c) => (c.for_people ? "yes" : <span className="dim">no</span>),
          },
          { title: "In use", key: "active", width: 80, render: (_, c) => (c.active ? "yes" : <b>no</b>) },
          {
            title: <span className="sr">Test and remove</span>,
            key: "do",
            width: 170,
            render: (_, c) =>
              administers && (
                <span className="filters" style={{ margin: 0, flexWrap: "nowrap" }}>
                  <Button size="small" aria-label={`Send test on ${c.name}`} onClick={() => attempt.mutate(c.name)}>
                    Send test
                  </Button>
                  <Button
                    size="small"
                    aria-label={`Remove ${c.name}`}
                    onClick={() =>
                      removal.ask(c.name, `Remove ${c.name}?`, "The log of what was sent on it goes with it.")
                    }
                  >
                    Remove
                  </Button>
                </span>
              ),
          },
        ]}
        locale={{
          emptyText: (
            <div className="hollow">
              <p>Alerts stand in the console only, and go nowhere yet.</p>
              {administers && <Button onClick={() => setEdited("new")}>Add the first one</Button>}
            </div>
          ),
        }}
      />
      {edited && kinds.data && (
        <ChannelForm channel={edited === "new" ? null : edited} kinds={kinds.data} onClose={() => setEdited(null)} />
      )}
    </div>
  );
}
