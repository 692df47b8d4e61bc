import { AutoComplete, Button, Checkbox, Input, InputNumber, Select } from "antd";
import type { ReactNode } from "react";
import { useLookups } from "../lookups/useLookups";
import { KINDS, valueOf, type By, type Named, type Step, type StepColumn, type StepField } from "./steps";

interface Props {
  step: Step;
  number: number;
  /** Before the step; empty: not known. */
  columns: StepColumn[];
  /** Of a combination: names of its inputs. */
  inputs: string[];
  onChange: (step: Step) => void;
}

/** Pairs of a name and what stands for it, a line each. */
function Pairs({
  pairs,
  label,
  left,
  right,
  between,
  onChange,
}: {
  pairs: Named[];
  label: string;
  left: (value: string, put: (value: string) => void, label: string) => ReactNode;
  right: (value: string, put: (value: string) => void, label: string) => ReactNode;
  between: string;
  onChange: (pairs: Named[]) => void;
}) {
  const put = (place: number, more: Partial<Named>) =>
    onChange(pairs.map((pair, i) => (i === place ? { ...pair, ...more } : pair)));
  return (
    <div>
      {pairs.map((pair, i) => (
        <div className="filters" key={i} style={{ marginBottom: 4 }}>
          {left(pair.name, (name) => put(i, { name }), `${label} ${i + 1}, left`)}
          <span className="dim">{between}</span>
          {right(pair.as, (as) => put(i, { as }), `${label} ${i + 1}, right`)}
          <Button
            size="small"
            type="text"
            aria-label={`Remove ${label} ${i + 1}`}
            onClick={() => onChange(pairs.filter((_, at) => at !== i))}
          >
            Remove
          </Button>
        </div>
      ))}
      <Button size="small" onClick={() => onChange([...pairs, { name: "", as: "" }])}>
        One more
      </Button>
    </div>
  );
}

const typed = (width: number) => (value: string, put: (value: string) => void, label: string) => (
  <Input
    size="small"
    className="mono"
    aria-label={label}
    value={value}
    onChange={(e) => put(e.target.value)}
    style={{ width }}
  />
);

const INPUT = "input:";
const descendingOf = (column: string) => `${column}\u0000`;
const wordOf = (by: By) => (typeof by === "string" ? by : by.descending ? descendingOf(by.column) : by.column);
const byOf = (word: string): By => (word.endsWith("\u0000") ? { column: word.slice(0, -1), descending: true } : word);

/** A constant as it is typed. */
const shown = (value: unknown) =>
  typeof value === "string" ? value : typeof value === "number" || typeof value === "boolean" ? String(value) : "";

/** What one step is told, field by field. */
export function StepForm({ step, number, columns, inputs, onChange }: Props) {
  const lookups = useLookups(step.step === "look_up");
  const lookup = lookups.data?.find((each) => each.name === step.lookup);
  const put = (name: string, value: unknown) => {
    const next = { ...step, [name]: value };
    if (
      value === undefined ||
      value === "" ||
      (Array.isArray(value) && !value.length && !["order", "columns"].includes(name))
    )
      delete next[name];
    onChange(next);
  };
  const names = columns.map((each) => ({ value: each.name, label: each.name }));
  const picked = (value: string, given: (value: string) => void, label: string, from = names) => (
    <AutoComplete
      size="small"
      className="mono"
      aria-label={label}
      value={value}
      options={from}
      showSearch={{ filterOption: (text, option) => (option?.value ?? "").toLowerCase().includes(text.toLowerCase()) }}
      onChange={given}
      style={{ width: 180 }}
    />
  );
  const kindOf = (name: unknown) => columns.find((each) => each.name === name)?.kind ?? "text";
  const control = (field: StepField): ReactNode => {
    const label = `${field.label}, step ${number}`;
    const value = step[field.name] ?? field.usual;
    const pairs = (value as Named[] | undefined) ?? [];
    switch (field.kind) {
      case "expression":
        return (
          <Input.TextArea
            className="mono"
            aria-label={label}
            placeholder={field.hint}
            autoSize={{ minRows: 1, maxRows: 6 }}
            value={(value as string | undefined) ?? ""}
            onChange={(e) => put(field.name, e.target.value)}
          />
        );
      case "column":
        return picked((value as string | undefined) ?? "", (next) => put(field.name, next), label);
      case "columns":
        return (
          <Select
            size="small"
            mode="tags"
            aria-label={label}
            placeholder={field.hint}
            value={(value as string[] | undefined) ?? []}
            options={names}
            onChange={(next: string[]) => put(field.name, next)}
            style={{ minWidth: 320 }}
          />
        );
      case "order":
        return (
          <Select
            size="small"
            mode="multiple"
            showSearch={{ optionFilterProp: "label" }}
            aria-label={label}
            placeholder={field.hint}
            value={((value as By[] | undefined) ?? []).map(wordOf)}
            options={columns.flatMap((each) => [
              { value: each.name, label: each.name },
              { value: descendingOf(each.name), label: `${each.name}, descending` },
            ])}
            onChange={(next: string[]) => put(field.name, next.map(byOf))}
            style={{ minWidth: 320 }}
          />
        );
      case "new":
        return (
          <Pairs
            pairs={pairs}
            label={field.label}
            left={typed(150)}
            right={typed(300)}
            between="="
            onChange={(next) => put(field.name, next)}
          />
        );
      case "renamed":
        return (
          <Pairs
            pairs={pairs}
            label={field.label}
            left={picked}
            right={typed(180)}
            between="to"
            onChange={(next) => put(field.name, next)}
          />
        );
      case "on":
      case "taken": {
        const theirs = (lookup?.revision.columns ?? []).map((each) => ({ value: each.name, label: each.name }));
        const right = (given: string, give: (value: string) => void, words: string) =>
          picked(given, give, words, theirs);
        return (
          <Pairs
            pairs={pairs}
            label={field.label}
            left={field.kind === "on" ? picked : typed(180)}
            right={right}
            between="="
            onChange={(next) => put(field.name, next)}
          />
        );
      }
      case "lookup":
        if (inputs.length)
          return (
            <Select
              size="small"
              showSearch={{ optionFilterProp: "label" }}
              aria-label={label}
              placeholder="an input, or a lookup"
              value={typeof step.input === "string" ? INPUT + step.input : (value as string | undefined) || undefined}
              options={[
                { label: "Inputs", options: inputs.map((each) => ({ value: INPUT + each, label: each })) },
                {
                  label: "Lookups",
                  options: lookups.options,
                },
              ]}
              onChange={(next: string) => {
                const rest = Object.fromEntries(
                  Object.entries(step).filter(([name]) => name !== "input" && name !== "lookup"),
                );
                const named = next.startsWith(INPUT) ? { input: next.slice(INPUT.length) } : { lookup: next };
                onChange({ ...rest, ...named, step: step.step });
              }}
              style={{ width: 220 }}
            />
          );
        return picked((value as string | undefined) ?? "", (next) => put(field.name, next), label, lookups.options);
      case "replaced": {
        const of = kindOf(step.column);
        const list =
          (value as { from: string | number | boolean; to: string | number | boolean | null }[] | undefined) ?? [];
        return (
          <Pairs
            pairs={list.map((each) => ({ name: String(each.from), as: each.to === null ? "" : String(each.to) }))}
            label={field.label}
            left={typed(150)}
            right={typed(150)}
            between="by"
            onChange={(next) =>
              put(
                field.name,
                next.map((each) => ({
                  from: valueOf(each.name, of),
                  to: each.as === "" ? null : valueOf(each.as, of),
                })),
              )
            }
          />
        );
      }
      case "value":
      case "text":
        return (
          <Input
            size="small"
            className="mono"
            aria-label={label}
            placeholder={field.hint}
            value={shown(value)}
            onChange={(e) =>
              put(
                field.name,
                field.kind === "value" && e.target.value
                  ? valueOf(e.target.value, kindOf((step.columns as string[] | undefined)?.[0]))
                  : e.target.value,
              )
            }
            style={{ width: 220 }}
          />
        );
      case "news":
      case "values":
        return (
          <Input
            size="small"
            className="mono"
            aria-label={label}
            placeholder={field.hint}
            value={((value as unknown[] | undefined) ?? []).join(", ")}
            onChange={(e) =>
              put(
                field.name,
                e.target.value
                  ? e.target.value
                      .split(",")
                      .map((each) => (field.kind === "values" ? valueOf(each.trim(), kindOf(step.names)) : each.trim()))
                  : [],
              )
            }
            style={{ width: 320 }}
          />
        );
      case "choice":
        return (
          <Select
            size="small"
            aria-label={label}
            value={value as string | undefined}
            options={(field.choices ?? []).map(([given, words]) => ({ value: given, label: words }))}
            onChange={(next: string) => put(field.name, next === field.usual ? undefined : next)}
            style={{ width: 280 }}
          />
        );
      case "number":
        return (
          <InputNumber
            size="small"
            aria-label={label}
            min={0}
            precision={0}
            value={value as number | undefined}
            onChange={(next) => put(field.name, next ?? undefined)}
          />
        );
      case "flag":
        return (
          <Checkbox
            checked={!!value}
            onChange={(e) => put(field.name, e.target.checked === !!field.usual ? undefined : e.target.checked)}
          >
            {field.label}
          </Checkbox>
        );
    }
  };
  const fields = KINDS[step.step]?.fields.filter((field) => field.name !== "places" || step.kind === "decimal") ?? [];
  return (
    <div className="step-form">
      {fields.map((field) => (
        <div key={field.name} className="step-field">
          <span className="dim">{field.kind === "flag" ? "" : field.label}</span>
          <div>{control(field)}</div>
        </div>
      ))}
      <div className="step-field">
        <span className="dim">Its name</span>
        <Input
          size="small"
          aria-label={`Its name, step ${number}`}
          placeholder="for guards and logs; by default what it does"
          value={step.name ?? ""}
          onChange={(e) => put("name", e.target.value)}
          style={{ width: 320 }}
        />
      </div>
    </div>
  );
}
