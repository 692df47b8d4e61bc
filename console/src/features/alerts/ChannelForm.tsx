import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Checkbox, Form, Input, Select, Switch } from "antd";
import { useNavigate, useParams } from "react-router";
import { api, must, type ChannelKind, type ChannelRecord } from "../../api/client";
import { NotYours } from "../../components/NotYours";
import { FormPage, FormPart } from "../../components/FormPage";
import { ProblemNote } from "../../components/ProblemNote";
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
function ChannelForm({ channel, kinds }: { channel: ChannelRecord | null; kinds: ChannelKind[] }) {
  const go = useNavigate();
  const leave = () => void go("/channels");
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
      leave();
    },
  });
  const defaults = Object.fromEntries((kind?.settings ?? []).map((setting) => [setting.name, setting.default]));
  return (
    <FormPage
      title={channel ? `Edit ${channel.name}` : "Add channel"}
      of={`channel ${channel?.name ?? ""}`}
      form={form}
      first={channel ?? { kind: kinds[0]?.name, settings: defaults, kinds: [], for_people: false }}
      okText={channel ? "Save" : "Add"}
      pending={save.isPending}
      error={save.error}
      onSend={(fields) => save.mutateAsync(fields)}
      onLeave={leave}
    >
      <FormPart title="Where it leads" words={kind?.note ?? ""}>
        {!channel && (
          <>
            <Form.Item label="Name" name="name" rules={[{ required: true, message: "A name is needed." }]}>
              <Input placeholder="duty" />
            </Form.Item>
            <Form.Item label="Kind" name="kind">
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
            <Input placeholder={setting.default} {...(setting.name === "url" ? { "data-secret": true } : {})} />
          </Form.Item>
        ))}
        <Form.Item
          label={kind?.secret ? `Secret: ${kind.secret}` : "Secret"}
          name="secret"
          extra={channel?.has_secret ? "Empty: the one that is kept stays." : undefined}
        >
          <Input.Password autoComplete="off" />
        </Form.Item>
      </FormPart>
      <FormPart title="What is sent on it">
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
      </FormPart>
    </FormPage>
  );
}

function ChannelPage({ name }: { name: string | undefined }) {
  const { may } = useMe();
  const administers = may("administrator");
  const kinds = useQuery({ queryKey: ["channel-kinds"], queryFn: () => must(api.GET("/api/v1/channel-kinds")) });
  const list = useQuery({
    queryKey: ["channels", "to edit"],
    enabled: administers,
    gcTime: 0, // what somebody has saved since is not overlooked
    staleTime: Infinity, // what is typed is not overtaken
    queryFn: () => must(api.GET("/api/v1/channels")),
  });
  const channel = list.data?.find((each) => each.name === name);
  if (administers && kinds.data && list.data && (channel || !name))
    return <ChannelForm channel={channel ?? null} kinds={kinds.data} />;
  if (!administers) return <NotYours title="Channel">Channels are looked after by administrators.</NotYours>;
  return (
    <div className="page">
      <ProblemNote error={kinds.error ?? list.error} />
      {name && list.data && !channel && <p>There is no channel ‘{name}’.</p>}
    </div>
  );
}

/** A channel to edit, on a page of its own. */
export const ChannelEditPage = () => <ChannelPage name={useParams().name} />;

export const NewChannelPage = () => <ChannelPage name={undefined} />;
