import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Form, Select, type FormInstance } from "antd";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, must, type Extract, type Parameter, type RunBody, type Source } from "../../api/client";
import { DayField } from "../../components/DayField";
import { ProblemNote } from "../../components/ProblemNote";
import { kept } from "../../lib/kept";
import { amount, moment, placeOf } from "../../lib/words";
import { firstField, valuesOf, type Field } from "../../lib/values";
import { DryRunView } from "./DryRunView";
import { FormatBoxes } from "../writing/OutputSettings";
import { ParameterFields } from "./ParameterFields";

/** Dates stand in the form as ISO texts; the picker wants its own objects. */
/** Where a run would read, and as whom, before it does. */
function Reads({
  reads,
  inputs,
  source,
  environment,
}: {
  reads: string;
  /** How many it combines. */
  inputs: number;
  source: Source | undefined;
  environment: string | undefined;
}) {
  const address = source?.addresses.find((a) => a.environment === environment);
  if (!source)
    return <>{reads ? null : inputs ? `reads its ${amount(inputs, "input")}` : "reads nothing but its values"}</>;
  if (!address) return <span className="said">{source.name} has no address there.</span>;
  const failed = address.last_check?.find((step) => !step.passed);
  return (
    <>
      reads {source.name} ({source.engine}), read-only
      <br />
      <span className="mono" style={{ overflowWrap: "anywhere" }}>
        {placeOf(address)}
      </span>
      {failed && (
        <div className="said">
          its last check stopped at {failed.step}, {moment(address.last_check_at)}
        </div>
      )}
    </>
  );
}

export type RunFields = Record<string, Field> & {
  environment: string;
  formats: string[];
  data_date?: string;
  publish?: "auto" | "yes" | "no";
};

/** What stands in the form, as a run takes it. */
export function bodyOf(
  extract: string,
  parameters: Parameter[],
  { environment, formats, data_date, publish, ...fields }: RunFields,
): RunBody {
  return {
    extract,
    environment,
    formats,
    publish: publish === "yes" ? true : publish === "no" ? false : null,
    values: valuesOf(parameters, fields),
    ...(data_date ? { data_date } : {}),
  };
}

/** The parameters as a form by type, environment, formats and data date; starts the run, or says what it would do. */
export function RunForm({
  extract,
  parameters,
  source,
  form,
  unsaved,
}: {
  extract: Extract;
  parameters: Parameter[];
  source: Source | undefined;
  form: FormInstance<RunFields>;
  unsaved: boolean;
}) {
  const go = useNavigate();
  const [dry, setDry] = useState<RunBody | null>(null);
  const environments = useQuery({ queryKey: ["environments"], queryFn: () => must(api.GET("/api/v1/environments")) });
  const start = useMutation({
    mutationFn: (fields: RunFields) =>
      must(
        api.POST("/api/v1/runs", {
          params: { header: { "Idempotency-Key": crypto.randomUUID() } },
          body: bodyOf(extract.name, extract.revision.parameters, fields),
        }),
      ),
    onSuccess: (run) => {
      kept.forget(key);
      void go(`/runs/${run.id}`);
    },
  });
  const key = `run of ${extract.name}`;
  const [left, setLeft] = useState(() => kept.of(key));
  const chosen = Form.useWatch<string | undefined>("environment", form) ?? environments.data?.[0]?.name;
  const dataDate = Form.useWatch<string | undefined>("data_date", form);
  const first = JSON.stringify({
    ...Object.fromEntries(parameters.map((p) => [p.name, firstField(p)])),
    environment: environments.data?.[0]?.name,
    formats: extract.revision.formats,
  });
  const shown = environments.isSuccess;
  useEffect(() => {
    if (!shown) return;
    const behind = Object.entries(JSON.parse(first) as Record<string, unknown>).filter(
      ([name, value]) =>
        !form.isFieldTouched(name) && JSON.stringify(form.getFieldValue(name)) !== JSON.stringify(value),
    );
    form.resetFields(behind.map(([name]) => name)); // defaults that changed; what somebody typed stays
  }, [first, form, shown]);
  useEffect(() => {
    if (shown && left)
      form.setFields(
        Object.entries(left as Record<string, unknown>).map(([name, value]) => ({ name, value, touched: true })),
      );
  }, [form, left, shown]);
  const keep = () => {
    const sensitive = parameters.filter((each) => each.sensitive).map((each) => each.name);
    kept.keep(key, form.getFieldsValue(true, (meta) => !!meta?.touched) as object, sensitive);
  };
  const anew = () => {
    kept.forget(key);
    setLeft(undefined);
    form.resetFields();
  };
  if (!environments.data) return null;
  return (
    <Form
      form={form}
      layout="vertical"
      requiredMark={false}
      onValuesChange={keep}
      onFinish={(fields: RunFields) => start.mutate(fields)}
      initialValues={JSON.parse(first) as Partial<RunFields>}
    >
      {left && (
        <p className="said-line" role="status">
          <span>As you left it.</span>
          <Button size="small" type="text" onClick={anew}>
            Begin anew
          </Button>
        </p>
      )}
      <ParameterFields
        parameters={parameters}
        extract={extract.name}
        environment={chosen}
        dataDate={dataDate}
        prefilled
      />
      <Form.Item
        label="Environment"
        name="environment"
        extra={
          <Reads
            reads={extract.revision.source}
            inputs={extract.revision.inputs.length}
            source={source}
            environment={chosen}
          />
        }
      >
        <Select options={environments.data.map((e) => ({ value: e.name, label: e.name }))} />
      </Form.Item>
      <Form.Item label="Data date" name="data_date" extra="Empty: today.">
        <DayField />
      </Form.Item>
      <Form.Item label="Formats" name="formats">
        <FormatBoxes />
      </Form.Item>
      <Form.Item
        label="Publish"
        name="publish"
        initialValue="auto"
        extra="Delivered, and the latest result. With other values or formats it is a trial, kept in the result store only."
      >
        <Select
          options={[
            { value: "auto", label: "If it runs as it stands" },
            { value: "yes", label: "Yes" },
            { value: "no", label: "No, a trial" },
          ]}
        />
      </Form.Item>
      {unsaved && (
        <p className="dim">Runs revision {extract.revision.number} as saved, without your unsaved changes.</p>
      )}
      <ProblemNote error={start.error} />
      <div className="filters">
        <Button type="primary" htmlType="submit" loading={start.isPending}>
          Run now
        </Button>
        <Button
          onClick={() =>
            void form.validateFields().then(
              (fields) => setDry(bodyOf(extract.name, extract.revision.parameters, fields)),
              () => undefined,
            )
          }
        >
          Dry run
        </Button>
      </div>
      {dry && <DryRunView body={dry} onClose={() => setDry(null)} />}
    </Form>
  );
}
