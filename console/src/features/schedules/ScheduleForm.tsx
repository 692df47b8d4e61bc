import { useDeferredValue } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Form, Input, Modal, Select } from "antd";
import { api, must, type Parameter, type Schedule } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { momentIn } from "../../lib/words";
import { firstField, valuesOf, type Field } from "../../lib/values";
import { ValueField } from "../extracts/ValueField";
import { FormatBoxes } from "../writing/OutputSettings";

interface Fields { name: string; extract: string; environment: string; rule: string; zone: string; formats: string[]; values: Record<string, Field> }

const defaultOf = (p: Parameter) => (p.shared ? `, else ${p.shared}` : p.default !== null ? `, else ${Array.isArray(p.default) ? p.default.join(", ") : String(firstField(p))}` : p.required ? "" : ", optional");

/** Add or edit; the next due times of the rule are shown as it is typed. */
export function ScheduleForm({ schedule, onClose }: { schedule: Schedule | null; onClose: () => void }) {
  const [form] = Form.useForm<Fields>();
  const client = useQueryClient();
  const extracts = useQuery({ queryKey: ["extracts", "", false], queryFn: () => must(api.GET("/api/v1/extracts")) });
  const environments = useQuery({ queryKey: ["environments"], queryFn: () => must(api.GET("/api/v1/environments")) });
  const rule = useDeferredValue(Form.useWatch("rule", form) ?? "");
  const zone = useDeferredValue(Form.useWatch("zone", form) ?? "");
  const next = useQuery({
    queryKey: ["moments", rule, zone],
    enabled: rule.trim() !== "",
    queryFn: () => must(api.GET("/api/v1/rule-moments", { params: { query: { rule, zone: zone || undefined } } })),
  });
  const chosen = Form.useWatch("extract", form);
  const environment = Form.useWatch("environment", form);
  const extract = useQuery({ queryKey: ["extract", chosen], enabled: !!chosen, queryFn: () => must(api.GET("/api/v1/extracts/{name}", { params: { path: { name: chosen } } })) });
  const parameters = chosen ? (extract.data?.revision.parameters ?? []) : [];
  const save = useMutation({
    mutationFn: ({ name, values, ...rest }: Fields) => {
      const body = { ...rest, values: valuesOf(parameters, values ?? {}) };
      return must(schedule ? api.PATCH("/api/v1/schedules/{name}", { params: { path: { name: schedule.name } }, body }) : api.POST("/api/v1/schedules", { body: { name, ...body } }));
    },
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["schedules"] });
      onClose();
    },
  });
  const first = schedule
    ? { ...schedule, values: Object.fromEntries(Object.entries(schedule.values).map(([name, value]) => [name, typeof value === "number" ? String(value) : (value as Field)])) }
    : { rule: "30 6 * * 1-5", zone: Intl.DateTimeFormat().resolvedOptions().timeZone, environment: environments.data?.[0]?.name, formats: [], values: {} };
  if (!environments.data) return null;
  return (
    <Modal open title={schedule ? `Edit ${schedule.name}` : "Add schedule"} okText="Save schedule" onCancel={onClose} onOk={form.submit} confirmLoading={save.isPending} width={600}>
      <Form form={form} layout="vertical" requiredMark={false} initialValues={first} onFinish={(fields) => save.mutate(fields)}>
        {!schedule && <Form.Item label="Name" name="name" rules={[{ required: true, message: "A name is needed." }]}><Input autoFocus placeholder="users-daily" /></Form.Item>}
        <Form.Item label="Extract" name="extract" rules={[{ required: true, message: "Choose an extract." }]}>
          <Select showSearch options={(extracts.data ?? []).map((e) => ({ value: e.name, label: e.name }))} />
        </Form.Item>
        <Form.Item label="Environment" name="environment"><Select options={environments.data.map((e) => ({ value: e.name, label: e.name }))} /></Form.Item>
        <Form.Item label="Rule: minute, hour, day of month, month, day of week" name="rule"><Input className="mono" /></Form.Item>
        <Form.Item label="Time zone" name="zone"><Input /></Form.Item>
        {next.error ? <ProblemNote error={next.error} /> : <p aria-live="polite" className="dim">Next: {next.data?.next_due.map((t) => momentIn(t, zone || "UTC")).join(", ") || "…"}</p>}
        {parameters.map((p) => (
          <Form.Item key={p.name} name={["values", p.name]} label={<span><span className="mono">:{p.name}</span> <small>{p.type}{p.many ? ", many" : ""}{defaultOf(p)}</small></span>} extra={p.note || undefined} rules={p.required && p.default === null && !p.shared ? [{ required: true, message: `:${p.name} needs a value.` }] : []}>
            <ValueField parameter={p} extract={chosen} environment={environment} dataDate={undefined} />
          </Form.Item>
        ))}
        <Form.Item label="Formats" name="formats" extra="None: those of the extract."><FormatBoxes /></Form.Item>
        <ProblemNote error={save.error} />
      </Form>
    </Modal>
  );
}
