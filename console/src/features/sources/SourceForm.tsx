import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Checkbox, Form, Input, InputNumber, Select } from "antd";
import { useNavigate, useParams } from "react-router";
import { api, must, type Engine, type Source } from "../../api/client";
import { useEngines } from "../../api/useEngines";
import { NotYours } from "../../components/NotYours";
import { FormPage, FormPart } from "../../components/FormPage";
import { ProblemNote } from "../../components/ProblemNote";
import { useMe } from "../session/useMe";

interface Fields {
  name: string;
  engine: string;
  environment: string;
  url?: string;
  address: Record<string, string>;
  secret?: string;
  note?: string;
  group?: string;
  max_runs: number;
  connect_timeout_seconds: number;
  query_timeout_seconds: number;
  max_rows?: number | null;
  max_bytes?: number | null;
  quiet_hours?: string;
  quiet_zone?: string;
  saved_only: boolean;
  permitted?: string[];
}

function AddressItem({ field }: { field: Engine["address_fields"][number] }) {
  return (
    <Form.Item
      label={field.name}
      name={["address", field.name]}
      extra={field.note}
      rules={field.required ? [{ required: true, message: `${field.name} is needed.` }] : []}
    >
      {field.choices.length ? (
        <Select allowClear options={field.choices.map((value) => ({ value, label: value }))} />
      ) : (
        <Input />
      )}
    </Form.Item>
  );
}

/** What an address of an engine holds unless somebody says otherwise. */
const defaultsOf = (engine: Engine | undefined) =>
  Object.fromEntries(
    (engine?.address_fields ?? []).filter((field) => field.default).map((field) => [field.name, field.default]),
  );

/** Add a source with one address, or edit its settings and the address in one environment. */
function SourceForm({ source }: { source: Source | null }) {
  const go = useNavigate();
  const leave = () => void go("/sources");
  const [form] = Form.useForm<Fields>();
  const client = useQueryClient();
  const engines = useEngines();
  const environments = useQuery({ queryKey: ["environments"], queryFn: () => must(api.GET("/api/v1/environments")) });
  const chosen = Form.useWatch("engine", form) ?? source?.engine ?? engines.data?.[0]?.name;
  const engine = engines.data?.find((e) => e.name === chosen);
  const pasted = !!Form.useWatch("url", form);
  const save = useMutation({
    mutationFn: ({
      name,
      engine: kind,
      environment,
      url,
      address,
      secret,
      note,
      group,
      quiet_hours,
      quiet_zone,
      ...limits
    }: Fields) => {
      const way = url ? { url } : { address, ...(secret ? { secret } : {}) };
      const settings = {
        ...limits,
        note: note ?? "",
        group: group ?? "",
        quiet_hours: quiet_hours ?? "",
        quiet_zone: quiet_zone ?? "",
        addresses: { [environment]: way },
      };
      return must(
        source
          ? api.PATCH("/api/v1/sources/{name}", { params: { path: { name: source.name } }, body: settings })
          : api.POST("/api/v1/sources", { body: { name, engine: kind, ...settings } }),
      );
    },
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["sources"] });
      leave();
    },
  });
  const addressIn = (environment: string) =>
    source?.addresses.find((a) => a.environment === environment)?.address ?? {};
  if (!environments.data || !engines.data) return null;
  const first = environments.data[0]?.name ?? "";
  return (
    <FormPage
      title={source ? `Edit ${source.name}` : "Add source"}
      of={`source ${source?.name ?? ""}`}
      form={form}
      first={
        source
          ? {
              ...source,
              permitted: source.permitted.map((each) => each.name),
              environment: first,
              address: addressIn(first),
            }
          : {
              engine: engines.data[0]?.name,
              environment: first,
              max_runs: 2,
              connect_timeout_seconds: 10,
              query_timeout_seconds: 3600,
              saved_only: false,
              address: defaultsOf(engines.data[0]),
            }
      }
      okText="Save source"
      pending={save.isPending}
      error={save.error}
      onSend={(fields) => save.mutateAsync({ ...fields, engine: fields.engine ?? chosen ?? "" })}
      onLeave={leave}
    >
      <FormPart title="What it is" words="Its name is what extracts say that they read.">
        {!source && (
          <Form.Item label="Name" name="name" rules={[{ required: true, message: "A name is needed." }]}>
            <Input autoFocus placeholder="metering" />
          </Form.Item>
        )}
        {!source && (
          <Form.Item label="Engine" name="engine">
            <Select
              options={engines.data.map((e) => ({ value: e.name, label: e.title }))}
              onChange={(name: string) =>
                form.setFieldValue("address", defaultsOf(engines.data.find((e) => e.name === name)))
              }
            />
          </Form.Item>
        )}
        <Form.Item label="Group" name="group" extra="Sources of one group stand together in lists.">
          <Input placeholder="network" />
        </Form.Item>
        <Form.Item label="Note" name="note">
          <Input />
        </Form.Item>
      </FormPart>
      <FormPart
        title="Where it lies"
        words="An address for each environment; the login should be one that may only read."
      >
        <Form.Item label="Environment of the address" name="environment">
          <Select
            options={environments.data.map((e) => ({ value: e.name, label: e.name }))}
            onChange={(name: string) => form.setFieldValue("address", addressIn(name))}
          />
        </Form.Item>
        {engine && (
          <Form.Item
            label="Connection URL, instead of the fields below"
            name="url"
            extra="Its password goes straight to where secrets are kept."
          >
            <Input.Password autoComplete="off" visibilityToggle placeholder={engine.url_form} />
          </Form.Item>
        )}
        {!pasted &&
          engine?.address_fields
            .filter((field) => field.required)
            .map((field) => <AddressItem key={field.name} field={field} />)}
        {!pasted && engine?.takes_secret && (
          <Form.Item
            label="Password"
            name="secret"
            extra={
              source
                ? "Empty: stays as it is. Needed again when the address changes."
                : "Kept encrypted; never shown again."
            }
          >
            <Input.Password autoComplete="new-password" />
          </Form.Item>
        )}
      </FormPart>
      {!pasted && engine?.address_fields.some((field) => !field.required) && (
        <FormPart title="Encryption and session" words="Empty: as the engine has it.">
          {engine.address_fields
            .filter((field) => !field.required)
            .map((field) => (
              <AddressItem key={field.name} field={field} />
            ))}
        </FormPart>
      )}
      <FormPart title="How much may be asked of it" words="They guard the database, whoever runs what.">
        <Form.Item label="Max runs at once" name="max_runs">
          <InputNumber min={1} max={100} />
        </Form.Item>
        <Form.Item label="Connect timeout, in seconds" name="connect_timeout_seconds">
          <InputNumber min={1} max={60} />
        </Form.Item>
        <Form.Item label="Query timeout, in seconds" name="query_timeout_seconds">
          <InputNumber min={1} max={86400} />
        </Form.Item>
        <Form.Item label="Most rows of a result" name="max_rows" extra="Empty: no limit.">
          <InputNumber min={1} style={{ width: 160 }} />
        </Form.Item>
        <Form.Item label="Most bytes of a result" name="max_bytes" extra="Empty: no limit.">
          <InputNumber min={1} style={{ width: 160 }} />
        </Form.Item>
        <Form.Item
          label="Permitted"
          name="permitted"
          extra="Functions in C, types and relations by name, such as public.similarity, that its statements may use beyond what every source allows."
        >
          <Select mode="tags" open={false} suffixIcon={null} tokenSeparators={[",", " "]} placeholder="none" />
        </Form.Item>
        <Form.Item
          name="saved_only"
          valuePropName="checked"
          extra="No preview and no run of a statement that is not in the repository."
        >
          <Checkbox>Saved statements only</Checkbox>
        </Form.Item>
      </FormPart>
      <FormPart title="When it is left alone">
        <Form.Item
          label="Quiet hours, in which no run reads it"
          name="quiet_hours"
          extra="Such as 07:00 to 09:30 and 22:00 to 02:00. Empty: none."
        >
          <Input />
        </Form.Item>
        <Form.Item label="Time zone of the quiet hours" name="quiet_zone" extra="Empty: the service’s own.">
          <Input />
        </Form.Item>
      </FormPart>
    </FormPage>
  );
}

/** One source to edit, on a page of its own. */
export function SourceEditPage() {
  const name = useParams().name!;
  const { may } = useMe();
  const query = useQuery({
    queryKey: ["sources", name, "to edit"],
    enabled: may("administrator"),
    gcTime: 0, // what somebody has saved since is not overlooked
    staleTime: Infinity, // what is typed is not overtaken
    queryFn: () => must(api.GET("/api/v1/sources/{name}", { params: { path: { name } } })),
  });
  if (!may("administrator")) return <AdministratorsOnly />;
  return query.data ? (
    <SourceForm source={query.data} />
  ) : (
    <div className="page">
      <ProblemNote error={query.error} />
    </div>
  );
}

export function NewSourcePage() {
  return useMe().may("administrator") ? <SourceForm source={null} /> : <AdministratorsOnly />;
}

const AdministratorsOnly = () => <NotYours title="Source">Sources are looked after by administrators.</NotYours>;
