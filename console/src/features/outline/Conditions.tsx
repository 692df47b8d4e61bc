import { Button, Input, Select } from "antd";
import { spaced } from "../../lib/words";
import {
  ALONE,
  GROUPS,
  groupOf,
  omit,
  operandOf,
  put,
  typedOf,
  without,
  withTest,
  type Column,
  type Condition,
  type Group,
  type Words,
} from "./outline";
import { Remarks, type Said } from "./Remarks";

interface Props {
  condition: Condition;
  path: string;
  label: string;
  columns: Column[];
  words: Words;
  said: Said;
  /** Conditions on groups: each is about an aggregate. */
  aggregates?: boolean;
  onChange: (condition: Condition) => void;
}

const TITLES: Record<Group, string> = {
  all: "all of these hold",
  any: "any of these holds",
  none: "none of these holds",
};

/** A group of conditions, nested: *all of these hold*, *any*, *none*. */
export function Conditions(props: Props) {
  const { condition, path, label, onChange } = props;
  const word = groupOf(condition) ?? "all";
  const members = condition[word] ?? [];
  const set = (more: Condition[]) => onChange({ [word]: more });
  const first = props.columns[0];
  return (
    <div className="outline-group" role="group" aria-label={label}>
      {(members.length > 1 || word !== "all") && (
        <div className="outline-part">
          <Select<Group>
            size="small"
            showSearch={{ optionFilterProp: "label" }}
            aria-label={`How, ${label}`}
            value={word}
            style={{ width: 170 }}
            options={GROUPS.map((value) => ({ value, label: TITLES[value] }))}
            onChange={(other) => onChange({ [other]: members })}
          />
        </div>
      )}
      {members.map((member, n) => {
        const own = { path: `${path}.${word}[${n}]`, label: `${label}, ${n + 1}` };
        const change = (one: Condition) => set(put(members, n, one));
        return (
          <div key={n} className={groupOf(member) ? "outline-group" : undefined}>
            {groupOf(member) ? (
              <>
                <Conditions {...props} {...own} condition={member} onChange={change} />
                <div>
                  <Button size="small" type="text" onClick={() => set(without(members, n))}>
                    Remove this group
                  </Button>
                </div>
              </>
            ) : (
              <Test
                {...props}
                {...own}
                condition={member}
                onChange={change}
                onRemove={() => set(without(members, n))}
              />
            )}
          </div>
        );
      })}
      <div className="outline-part">
        <Button
          size="small"
          aria-label={`Add ${label}`}
          disabled={!first}
          onClick={() =>
            set([
              ...members,
              { column: first!.name, ...(props.aggregates ? { aggregate: "sum" } : {}), test: "is", value: "" },
            ])
          }
        >
          Add condition
        </Button>
        <Button size="small" type="text" onClick={() => set([...members, { expression: "", test: "holds" }])}>
          Add one by hand
        </Button>
        {path.split("[").length < 6 && (
          <Button
            size="small"
            type="text"
            disabled={!first}
            onClick={() => set([...members, { any: [{ column: first!.name, test: "is", value: "" }] }])}
          >
            Add group
          </Button>
        )}
      </div>
    </div>
  );
}

/** One test: what, how, against which value. */
function Test({
  condition,
  path,
  label,
  columns,
  words,
  said,
  aggregates,
  onChange,
  onRemove,
}: Props & { onRemove: () => void }) {
  const column = columns.find((each) => each.name === condition.column);
  const kind = condition.aggregate?.startsWith("count")
    ? "integer"
    : condition.expression
      ? "any"
      : (column?.kind ?? "any");
  const tests = words.tests[kind] ?? words.tests.any ?? [];
  const test = condition.test ?? "is";
  return (
    <div className="outline-part">
      {condition.expression === undefined ? (
        <>
          {aggregates && (
            <Select
              size="small"
              showSearch={{ optionFilterProp: "label" }}
              aria-label={`Aggregate, ${label}`}
              value={condition.aggregate}
              style={{ width: 120 }}
              options={words.aggregates
                .filter((each) => each !== "first" && each !== "last")
                .map((value) => ({ value, label: spaced(value) }))}
              onChange={(aggregate: string) => onChange({ ...condition, aggregate })}
            />
          )}
          <Select
            size="small"
            showSearch={{ optionFilterProp: "label" }}
            aria-label={`Column, ${label}`}
            value={condition.column}
            style={{ width: 190 }}
            options={columns.map(({ name }) => ({ value: name, label: name }))}
            onChange={(name: string) => {
              const of = columns.find((each) => each.name === name)?.kind ?? "any";
              const fits = (words.tests[of] ?? []).includes(test);
              onChange({ ...(fits ? condition : withTest(condition, "is")), column: name });
            }}
          />
        </>
      ) : (
        <Input
          size="small"
          className="mono"
          aria-label={`Expression, ${label}`}
          placeholder="r.litres > m.most"
          value={condition.expression}
          style={{ width: 300 }}
          onChange={(e) => onChange({ ...condition, expression: e.target.value })}
        />
      )}
      {test !== "holds" && (
        <Select
          size="small"
          showSearch={{ optionFilterProp: "label" }}
          aria-label={`Test, ${label}`}
          value={test}
          style={{ width: 120 }}
          options={tests.filter((each) => each !== "holds").map((value) => ({ value, label: spaced(value) }))}
          onChange={(other: string) => onChange(withTest(condition, other))}
        />
      )}
      {!ALONE.has(test) && <Value condition={condition} label={label} kind={kind} onChange={onChange} />}
      <Button size="small" type="text" aria-label={`Remove ${label}`} onClick={onRemove}>
        Remove
      </Button>
      <Remarks said={said} path={path} exact />
    </div>
  );
}

function Value({
  condition,
  label,
  kind,
  onChange,
}: Pick<Props, "condition" | "label" | "onChange"> & { kind: string }) {
  const test = condition.test ?? "is";
  if (test === "between")
    return (
      <>
        {[0, 1].map((n) => (
          <Input
            key={n}
            size="small"
            aria-label={`${n ? "To" : "From"}, ${label}`}
            value={typedOf(condition.values?.[n])}
            style={{ width: 110 }}
            onChange={(e) =>
              onChange({ ...condition, values: put(condition.values ?? ["", ""], n, operandOf(e.target.value)) })
            }
          />
        ))}
      </>
    );
  if (condition.values || test === "in_list" || test === "not_in_list")
    return (
      <Select
        size="small"
        mode="tags"
        aria-label={`Values, ${label}`}
        placeholder="values, or :parameter"
        tokenSeparators={[","]}
        value={condition.values?.map(typedOf) ?? (condition.value === undefined ? [] : [typedOf(condition.value)])}
        style={{ minWidth: 190 }}
        open={false}
        onChange={(typed: string[]) => {
          const rest = omit(condition, "value", "values");
          const last = typed.at(-1);
          const one = last === undefined ? undefined : operandOf(last);
          if (typeof one === "object" && one.parameter) onChange({ ...rest, value: one });
          else onChange({ ...rest, values: typed.filter((each) => !each.startsWith(":")) });
        }}
      />
    );
  if (kind === "boolean" && typeof condition.value !== "object")
    return (
      <Select
        size="small"
        showSearch={{ optionFilterProp: "label" }}
        aria-label={`Value, ${label}`}
        value={condition.value === "" ? undefined : String(condition.value)}
        placeholder="true or false"
        style={{ width: 120 }}
        options={["true", "false"].map((value) => ({ value, label: value }))}
        onChange={(value: string) => onChange({ ...condition, value: value === "true" })}
      />
    );
  return (
    <Input
      size="small"
      aria-label={`Value, ${label}`}
      placeholder={test === "in_period" ? "last month" : "value, :parameter or [column]"}
      value={typedOf(condition.value)}
      style={{ width: 190 }}
      onChange={(e) => onChange({ ...condition, value: operandOf(e.target.value) })}
    />
  );
}
