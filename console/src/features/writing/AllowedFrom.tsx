import { Select } from "antd";
import type { Parameter } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { useLookups } from "../lookups/useLookups";

/** The lookup that a parameter's allowed values are in: its column, and one with words for each. */
export function AllowedFrom({
  parameter: p,
  of,
  onChange,
}: {
  parameter: Parameter;
  of: string;
  onChange: (more: Partial<Parameter>) => void;
}) {
  const lookups = useLookups();
  const { name, column, label } = p.lookup;
  const lookup = lookups.data?.find((each) => each.name === name);
  const columns = (lookup?.revision.columns ?? []).map((each) => ({ value: each.name, label: each.name }));
  const set = (more: { column?: string | undefined; label?: string | undefined }) => {
    const next = { name: name!, column, label, ...more };
    onChange({
      lookup: Object.fromEntries(Object.entries(next).filter(([, given]) => given)) as Record<string, string>,
    });
  };
  return (
    <>
      <label>
        Allowed values from a lookup
        <Select
          size="small"
          allowClear
          showSearch={{ optionFilterProp: "label" }}
          aria-label={`Lookup of ${of}`}
          value={name}
          onChange={(chosen?: string) =>
            onChange(chosen ? { lookup: { name: chosen }, allowed: [], labels: {}, choices: {} } : { lookup: {} })
          }
          options={lookups.options}
        />
      </label>
      {name && (
        <>
          <label>
            by the column
            <Select
              size="small"
              allowClear
              aria-label={`Column of values for ${of}`}
              placeholder={lookup?.revision.key.length === 1 ? `${lookup.revision.key[0]}, its key` : "choose one"}
              value={column}
              onChange={(chosen?: string) => set({ column: chosen })}
              options={columns}
            />
          </label>
          <label>
            with the words in
            <Select
              size="small"
              allowClear
              aria-label={`Column of words for ${of}`}
              value={label}
              onChange={(chosen?: string) => set({ label: chosen })}
              options={columns}
            />
          </label>
        </>
      )}
      <ProblemNote error={lookups.error} />
    </>
  );
}
