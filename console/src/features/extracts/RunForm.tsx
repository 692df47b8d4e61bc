import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Checkbox, DatePicker, Form, Input, Select } from "antd";
import dayjs, { type Dayjs } from "dayjs";
import { useNavigate } from "react-router";
import { api, must, type Extract, type Parameter, type Source } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { moment, placeOf } from "../../lib/words";
import { firstField, valuesOf, type Field } from "../../lib/values";

const looks: Record<string, string> = { date: "2026-11-24", timestamp: "2026-11-24 06:05", integer: "42", decimal: "12.5", text: "" };
const FORMATS = ["csv", "xlsx", "json"];

/** Dates stand in the form as ISO texts; the picker wants its own objects. */
const asDate = {
  getValueProps: (value?: string) => ({ value: value ? dayjs(value) : null }),
  normalize: (value: Dayjs | null) => value?.format("YYYY-MM-DD"),
};

function ValueField({ parameter, ...rest }: { parameter: Parameter }) {
  const options = parameter.allowed.map((value) => ({ value: String(value), label: String(value) }));
  if (parameter.many) return <Select {...rest} mode={options.length ? "multiple" : "tags"} options={options} tokenSeparators={[",", "\n", "\t"]} />;
  if (parameter.type === "boolean") return <Select {...rest} allowClear options={[{ value: true, label: "yes" }, { value: false, label: "no" }]} />;
  if (options.length) return <Select {...rest} allowClear={!parameter.required} options={options} />;
  if (parameter.type === "date") return <DatePicker {...rest} style={{ width: "100%" }} />;
  return <Input {...rest} placeholder={looks[parameter.type] ?? ""} inputMode={parameter.type === "integer" || parameter.type === "decimal" ? "decimal" : "text"} />;
}

/** Where a run would read, and as whom, before it does. */
function Reads({ source, environment }: { source: Source | undefined; environment: string | undefined }) {
  const address = source?.addresses.find((a) => a.environment === environment);
  if (!source) return null;
  if (!address) return <span className="said">{source.name} has no address there.</span>;
  const failed = address.last_check?.find((step) => !step.passed);
  return (
    <>
      reads {source.name} ({source.engine}), read-only<br /><span className="mono" style={{ overflowWrap: "anywhere" }}>{placeOf(address)}</span>
      {failed && <div className="said">its last check stopped at {failed.step}, {moment(address.last_check_at)}</div>}
    </>
  );
}

type Fields = Record<string, Field> & { environment: string; formats: string[]; data_date?: string };

/** The parameters as a form by type, environment, formats and data date; starts the run and goes to it. */
export function RunForm({ extract, source }: { extract: Extract; source: Source | undefined }) {
  const go = useNavigate();
  const environments = useQuery({ queryKey: ["environments"], queryFn: () => must(api.GET("/api/v1/environments")) });
  const parameters = extract.revision.parameters;
  const start = useMutation({
    mutationFn: ({ environment, formats, data_date, ...fields }: Fields) =>
      must(api.POST("/api/v1/runs", {
        params: { header: { "Idempotency-Key": crypto.randomUUID() } },
        body: { extract: extract.name, environment, formats, values: valuesOf(parameters, fields), ...(data_date ? { data_date } : {}) },
      })),
    onSuccess: (run) => void go(`/runs/${run.id}`),
  });
  const [form] = Form.useForm<Fields>();
  const chosen = Form.useWatch<string | undefined>("environment", form) ?? environments.data?.[0]?.name;
  if (!environments.data) return null;
  const first = Object.fromEntries(parameters.map((p) => [p.name, firstField(p)]));
  return (
    <Form
      form={form} key={extract.revision.number} layout="vertical" requiredMark={false} onFinish={(fields: Fields) => start.mutate(fields)}
      initialValues={{ ...first, environment: environments.data[0]?.name, formats: extract.revision.formats }}
    >
      {parameters.map((p) => (
        <Form.Item key={p.name} name={p.name} label={<span><span className="mono">:{p.name}</span> <small>{p.type}{p.many ? ", many" : ""}{p.default !== null ? ", has a default" : p.required ? "" : ", optional"}</small></span>} extra={p.note || undefined} {...(p.type === "date" && !p.many ? asDate : {})}
          rules={p.required && p.default === null ? [{ required: true, message: `:${p.name} needs a value.` }] : []}>
          <ValueField parameter={p} />
        </Form.Item>
      ))}
      <Form.Item label="Environment" name="environment" extra={<Reads source={source} environment={chosen} />}><Select options={environments.data.map((e) => ({ value: e.name, label: e.name }))} /></Form.Item>
      <Form.Item label="Data date" name="data_date" extra="Empty: today." {...asDate}><DatePicker style={{ width: "100%" }} /></Form.Item>
      <Form.Item label="Formats" name="formats"><Checkbox.Group options={FORMATS} /></Form.Item>
      <ProblemNote error={start.error} />
      <Button type="primary" htmlType="submit" loading={start.isPending}>Run now</Button>
    </Form>
  );
}
