import { useState } from "react";
import { Button, Input, Select, Tag } from "antd";
import type { Filter } from "../../api/client";
import { spaced } from "../../lib/words";

const TESTS: Filter["test"][] = [
  "is",
  "is_not",
  "less",
  "at_most",
  "more",
  "at_least",
  "contains",
  "is_null",
  "is_not_null",
];

interface Props {
  columns: string[];
  filters: Filter[];
  onChange: (filters: Filter[]) => void;
}

/** The filters in effect, always in sight, each removable; and one to be added. */
export function Filters({ columns, filters, onChange }: Props) {
  const [column, setColumn] = useState<string | undefined>(undefined);
  const [test, setTest] = useState<Filter["test"]>("is");
  const [value, setValue] = useState("");
  const alone = test === "is_null" || test === "is_not_null";
  const add = () => {
    if (!column) return;
    onChange([...filters, { column, test, value: alone ? "" : value }]);
    setValue("");
  };
  return (
    <div className="filters" style={{ flexWrap: "wrap" }}>
      {filters.map((f, i) => (
        <Tag
          key={`${f.column}${f.test}${f.value}`}
          closable
          className="active-filter"
          onClose={(e) => {
            e.preventDefault();
            onChange(filters.filter((_, n) => n !== i));
          }}
        >
          only where {f.column} {spaced(f.test)} {f.value}
        </Tag>
      ))}
      <Select
        size="small"
        showSearch={{ optionFilterProp: "label" }}
        aria-label="Column of the filter"
        placeholder="Filter a column"
        style={{ width: 150 }}
        value={column}
        onChange={setColumn}
        options={columns.map((name) => ({ value: name, label: name }))}
      />
      <Select
        size="small"
        showSearch={{ optionFilterProp: "label" }}
        aria-label="Test"
        style={{ width: 104 }}
        value={test}
        onChange={setTest}
        options={TESTS.map((name) => ({ value: name, label: spaced(name) }))}
      />
      {!alone && (
        <Input
          size="small"
          aria-label="Value of the filter"
          style={{ width: 150 }}
          value={value}
          onChange={(e) => setValue(e.target.value)}
          onPressEnter={add}
        />
      )}
      <Button size="small" disabled={!column} onClick={add}>
        Add filter
      </Button>
      {!alone && value && <span className="dim">not in effect before it is added</span>}
    </div>
  );
}
