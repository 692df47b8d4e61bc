import { Button, Input, InputNumber, Select } from "antd";
import type { Guard } from "../../lib/decisions";

const kinds: [string, string][] = [
  ["rows", "rows at least, at most"],
  ["not_empty", "not empty"],
  ["change", "change against earlier runs"],
  ["columns", "columns as they were"],
  ["not_null", "no null in"],
  ["no_duplicate", "no duplicate of"],
  ["in_lookup", "values in a lookup"],
  ["step_rows", "rows after a step"],
  ["same_rows", "a step keeps all rows"],
  ["all_found", "a step finds every match"],
];
const fresh: Record<string, Partial<Guard>> = {
  rows: { at_least: 1 },
  change: { percent: 20, of_last: 8, same: "any" },
  not_null: { columns: [] },
  no_duplicate: { columns: [] },
  in_lookup: { columns: [], lookup: "" },
  step_rows: { step: "", at_least: 1 },
  same_rows: { step: "" },
  all_found: { step: "" },
};
const days = [
  { value: "any", label: "of any day" },
  { value: "weekday", label: "of the same weekday" },
  { value: "month_day", label: "of the same day of the month" },
];

function Given({
  guard,
  number,
  onChange,
}: {
  guard: Guard;
  number: number;
  onChange: (more: Partial<Guard>) => void;
}) {
  const whole = (name: "at_least" | "at_most" | "percent" | "of_last", label: string) => (
    <InputNumber
      size="small"
      min={0}
      placeholder={label}
      aria-label={`${label}, guard ${number}`}
      value={guard[name] ?? null}
      onChange={(value) => onChange({ [name]: value ?? undefined })}
      style={{ width: 100 }}
    />
  );
  const named = (name: "step" | "lookup", label: string) => (
    <Input
      size="small"
      aria-label={`${label}, guard ${number}`}
      placeholder={label}
      value={guard[name] ?? ""}
      onChange={(e) => onChange({ [name]: e.target.value })}
      style={{ width: 150 }}
    />
  );
  const step = guard.step === undefined ? null : named("step", "name or number of the step");
  if (guard.guard === "rows" || guard.guard === "step_rows")
    return (
      <>
        {step} {whole("at_least", "at least")} {whole("at_most", "at most")} rows
      </>
    );
  if (step) return step;
  if (guard.guard === "change")
    return (
      <>
        {whole("percent", "per cent")} % of the median of the last {whole("of_last", "runs")} runs{" "}
        <Select
          size="small"
          aria-label={`Which runs, guard ${number}`}
          value={guard.same}
          onChange={(same: string) => onChange({ same })}
          options={days}
          style={{ width: 200 }}
        />
      </>
    );
  if (guard.columns)
    return (
      <>
        <Input
          size="small"
          className="mono"
          aria-label={`Columns, guard ${number}`}
          placeholder="columns, separated by commas"
          value={guard.columns.join(", ")}
          onChange={(e) => onChange({ columns: e.target.value.split(",").map((one) => one.trim()) })}
          style={{ width: 260 }}
        />
        {guard.lookup !== undefined && named("lookup", "the lookup")}
      </>
    );
  return null;
}

/** Bounds that a result must meet before it is delivered; breaking one holds it back or warns. */
export function Guards({ guards, onChange }: { guards: Guard[]; onChange: (guards: Guard[]) => void }) {
  const put = (at: number, guard: Guard) => onChange(guards.map((one, i) => (i === at ? guard : one)));
  return (
    <div>
      {guards.map((guard, i) => (
        <div key={i} className="filters" style={{ marginBottom: 6 }}>
          <Select
            size="small"
            aria-label={`Guard ${i + 1}`}
            value={guard.guard}
            options={kinds.map(([value, label]) => ({ value, label }))}
            onChange={(kind: string) => put(i, { guard: kind, then: guard.then, ...fresh[kind] })}
            style={{ width: 210 }}
          />
          <Given guard={guard} number={i + 1} onChange={(more) => put(i, { ...guard, ...more })} />
          <Select
            size="small"
            aria-label={`Then, guard ${i + 1}`}
            value={guard.then}
            options={[
              { value: "hold", label: "else hold" },
              { value: "warn", label: "else warn" },
            ]}
            onChange={(then: string) => put(i, { ...guard, then })}
            style={{ width: 110 }}
          />
          <Button
            size="small"
            type="text"
            aria-label={`Remove guard ${i + 1}`}
            onClick={() => onChange(guards.filter((_, at) => at !== i))}
          >
            Remove
          </Button>
        </div>
      ))}
      <Button size="small" onClick={() => onChange([...guards, { guard: "rows", then: "hold", ...fresh.rows }])}>
        Add guard
      </Button>
    </div>
  );
}
