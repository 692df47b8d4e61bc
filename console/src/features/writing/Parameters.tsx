import { useState } from "react";
import { Button, Checkbox, Input, Select } from "antd";
import type { Parameter, SharedValue, Source } from "../../api/client";
import { bare } from "../../lib/values";
import { AllowedFrom } from "./AllowedFrom";

const TYPES = ["text", "integer", "decimal", "boolean", "date", "timestamp", "period", "identifier"] as const;
const shown = (value: unknown): string =>
  value === null || value === undefined
    ? ""
    : Array.isArray(value)
      ? value.join(", ")
      : typeof value === "string"
        ? value
        : JSON.stringify(value);
const items = (given: string): string[] =>
  given
    .split(/[,\n\t]/)
    .map((part) => part.trim())
    .filter(Boolean);

/** `N = North, S = South` as values and their words. */
const readAllowed = (given: string): Pick<Parameter, "allowed" | "labels"> => {
  const pairs = items(given).map((part) => {
    const [value, ...words] = part.split("=");
    return [value!.trim(), words.join("=").trim()] as const;
  });
  return { allowed: pairs.map(([value]) => value), labels: Object.fromEntries(pairs.filter(([, words]) => words)) };
};
const showAllowed = (p: Parameter) =>
  p.allowed
    .map((value) => {
      const words = p.labels[String(value)];
      return words ? `${String(value)} = ${words}` : String(value);
    })
    .join(", ");

interface RowProps {
  parameter: Parameter;
  shared: SharedValue[];
  sources: Source[];
  onChange: (more: Partial<Parameter>) => void;
  onRemove: () => void;
}

/** A text field that speaks when it is left, so that half a list is never read. */
function Late({
  value,
  onChange,
  ...rest
}: {
  value: string;
  onChange: (given: string) => void;
  "aria-label": string;
  placeholder?: string;
  className?: string;
}) {
  return (
    <Input
      size="small"
      {...rest}
      key={value}
      defaultValue={value}
      onBlur={(e) => e.target.value !== value && onChange(e.target.value)}
      onPressEnter={(e) => e.currentTarget.blur()}
    />
  );
}

function Row({ parameter: p, shared, sources, onChange, onRemove }: RowProps) {
  const [open, setOpen] = useState(false);
  const of = p.name || "the new parameter";
  return (
    <>
      <tr>
        <td>
          <Late
            className="mono"
            aria-label={`Name of ${of}`}
            value={p.name}
            onChange={(name) => onChange({ name: name.trim().replace(/^:/, "") })}
          />
        </td>
        <td>
          <Select<Parameter["type"]>
            size="small"
            aria-label={`Type of ${of}`}
            style={{ width: 112 }}
            value={p.type}
            onChange={(type) => onChange({ type })}
            options={TYPES.map((value) => ({ value, label: value }))}
          />
        </td>
        <td>
          <Checkbox
            aria-label={`${of} is a list`}
            checked={p.is_list}
            onChange={(e) => onChange({ is_list: e.target.checked })}
          />
        </td>
        <td>
          <Checkbox
            aria-label={`${of} is required`}
            checked={p.required}
            onChange={(e) => onChange({ required: e.target.checked })}
          />
        </td>
        <td>
          <Late
            aria-label={`Default of ${of}`}
            value={shown(p.default)}
            onChange={(given) => onChange({ default: given === "" ? null : p.is_list ? items(given) : given })}
          />
        </td>
        <td>
          <Late aria-label={`Help for ${of}`} value={p.note} onChange={(note) => onChange({ note })} />
        </td>
        <td style={{ whiteSpace: "nowrap" }}>
          <Button size="small" type="text" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? "Less" : "More"}
          </Button>
          <Button size="small" type="text" aria-label={`Remove ${of}`} onClick={onRemove}>
            ✕
          </Button>
        </td>
      </tr>
      {open && (
        <tr className="more">
          <td colSpan={7}>
            <div className="more-grid">
              {!p.lookup.name && (
                <label>
                  Allowed values and labels
                  <Late
                    aria-label={`Allowed values of ${of}`}
                    placeholder="N = North, S = South"
                    value={showAllowed(p)}
                    onChange={(given) => onChange(readAllowed(given))}
                  />
                </label>
              )}
              <AllowedFrom parameter={p} of={of} onChange={onChange} />
              <label>
                At least
                <Late
                  aria-label={`Least of ${of}`}
                  value={shown(p.minimum)}
                  onChange={(given) => onChange({ minimum: given || null })}
                />
              </label>
              <label>
                At most
                <Late
                  aria-label={`Most of ${of}`}
                  value={shown(p.maximum)}
                  onChange={(given) => onChange({ maximum: given || null })}
                />
              </label>
              <label>
                Pattern
                <Late
                  className="mono"
                  aria-label={`Pattern of ${of}`}
                  value={p.pattern}
                  onChange={(pattern) => onChange({ pattern })}
                />
              </label>
              <label>
                Shared value as default
                <Select
                  size="small"
                  allowClear
                  aria-label={`Shared value of ${of}`}
                  value={p.shared || undefined}
                  onChange={(value?: string) => onChange({ shared: value ?? "" })}
                  options={shared.map((v) => ({ value: v.name, label: v.name }))}
                />
              </label>
              {!p.lookup.name && (
                <label>
                  Values from a query on
                  <Select
                    size="small"
                    allowClear
                    aria-label={`Source of values for ${of}`}
                    value={p.choices.source}
                    onChange={(source?: string) =>
                      onChange({ choices: source ? { source, statement: p.choices.statement ?? "select " } : {} })
                    }
                    options={sources.map((s) => ({ value: s.name, label: s.name }))}
                  />
                </label>
              )}
              {p.choices.source && (
                <label>
                  by the query
                  <Late
                    className="mono"
                    aria-label={`Query of proposals for ${of}`}
                    value={p.choices.statement ?? ""}
                    onChange={(statement) => onChange({ choices: { ...p.choices, statement } })}
                  />
                </label>
              )}
              <Checkbox checked={p.sensitive} onChange={(e) => onChange({ sensitive: e.target.checked })}>
                sensitive: masked in logs, descriptors and run details
              </Checkbox>
            </div>
          </td>
        </tr>
      )}
    </>
  );
}

/** Names that the statement uses and that nothing declares. */
export function undeclared(parameters: Parameter[], used: string[]): string[] {
  const known = new Set(
    parameters.flatMap((p) => (p.type === "period" ? [`${p.name}_from`, `${p.name}_to`] : [p.name])),
  );
  return used.filter((name) => !known.has(name) && name !== "data_date" && name !== "due_time");
}

/** A button for each of them. */
export function Declare({
  names,
  parameters,
  onChange,
}: {
  names: string[];
  parameters: Parameter[];
  onChange: (next: Parameter[]) => void;
}) {
  return names.map((name) => (
    <Button key={name} size="small" onClick={() => onChange([...parameters, { ...bare, name }])}>
      Declare :{name}
    </Button>
  ));
}

/** The declarations of an extract's parameters. */
export function Parameters({
  parameters,
  shared,
  sources,
  onChange,
}: {
  parameters: Parameter[];
  shared: SharedValue[];
  sources: Source[];
  onChange: (next: Parameter[]) => void;
}) {
  const set = (n: number, more: Partial<Parameter>) =>
    onChange(parameters.map((p, i) => (i === n ? { ...p, ...more } : p)));
  return (
    <section aria-label="Parameters">
      {parameters.length > 0 && (
        <table className="parameters">
          <thead>
            <tr>
              <th>Name</th>
              <th>Type</th>
              <th>List</th>
              <th>Required</th>
              <th>Default</th>
              <th>Help</th>
              <th>
                <span className="sr">More</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {parameters.map((p, n) => (
              <Row
                key={n}
                parameter={p}
                shared={shared}
                sources={sources}
                onChange={(more) => set(n, more)}
                onRemove={() => onChange(parameters.filter((_, i) => i !== n))}
              />
            ))}
          </tbody>
        </table>
      )}
      <div className="filters" style={{ marginTop: 6 }}>
        <Button size="small" onClick={() => onChange([...parameters, bare])}>
          Add parameter
        </Button>
        {!parameters.length && <span className="dim">Write :name in the statement, then declare it here.</span>}
      </div>
    </section>
  );
}
