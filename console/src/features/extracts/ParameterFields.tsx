import { Form } from "antd";
import type { Parameter } from "../../api/client";
import { firstField } from "../../lib/values";
import { ValueField } from "./ValueField";

/** What a field left empty means. A form that has the defaults in its fields only says that they are such. */
function unless(p: Parameter, prefilled: boolean): string {
  if (p.shared) return `, else ${p.shared}`;
  if (p.default === null) return p.required ? "" : ", optional";
  if (prefilled) return ", has a default";
  return `, else ${Array.isArray(p.default) ? p.default.join(", ") : String(firstField(p))}`;
}

/** One field for each parameter, by its type, in the form around them, under `within` among its fields. */
export function ParameterFields({
  parameters,
  extract,
  environment,
  dataDate,
  within = [],
  prefilled = false,
}: {
  parameters: Parameter[];
  extract: string;
  environment: string | undefined;
  dataDate: string | undefined;
  within?: string[];
  prefilled?: boolean;
}) {
  return parameters
    .filter((p) => p.name)
    .map((p) => (
      <Form.Item
        key={p.name}
        name={[...within, p.name]}
        label={
          <span>
            <span className="mono">:{p.name}</span>{" "}
            <small>
              {p.type}
              {p.is_list ? ", list" : ""}
              {unless(p, prefilled)}
            </small>
          </span>
        }
        extra={p.note || undefined}
        rules={
          p.required && p.default === null && !p.shared
            ? [{ required: true, message: `:${p.name} needs a value.` }]
            : []
        }
      >
        <ValueField parameter={p} extract={extract} environment={environment} dataDate={dataDate} />
      </Form.Item>
    ));
}
