import { useState, type ReactNode } from "react";
import { useMutation } from "@tanstack/react-query";
import { Button, Checkbox, Input, InputNumber, Select } from "antd";
import { api, must } from "../../api/client";
import { Failed, ProblemNote } from "../../components/ProblemNote";
import { spaced } from "../../lib/words";
import type { Draft } from "../writing/useDraft";
import { Conditions } from "./Conditions";
import {
  aliasOf,
  columnsOf,
  moved,
  omit,
  placesOf,
  pruned,
  put,
  shortOf,
  without,
  withShown,
  type Join,
  type Outline,
  type Shown,
  type Words,
} from "./outline";
import { Remarks, type Said } from "./Remarks";
import { useCounts, useTables, type useCompiled } from "./useOutline";
import "./outline.css";

const JOINS: Record<string, string> = {
  inner: "with",
  left: "with, where there is one,",
  right: "with every",
  full: "with, or without,",
};
const SIGNS = ["=", "<>", "<", "<=", ">", ">="].map((value) => ({ value, label: value }));

function Line({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="outline-line" aria-label={title}>
      <h3>{title}</h3>
      <div>{children}</div>
    </section>
  );
}

interface Props {
  draft: Draft & { outline: Outline };
  environment: string | undefined;
  words: Words;
  compiled: ReturnType<typeof useCompiled>;
  values: () => Record<string, unknown>;
  onChange: (outline: Outline) => void;
}

/** A statement put together by choosing, in the order in which one thinks. */
export function OutlineForm({ draft, environment, words, compiled, values, onChange }: Props) {
  const { outline, source } = draft;
  const { tables, columns: byTable, error } = useTables({ source, environment }, outline);
  const counts = useCounts({ source, environment }, draft, values);
  const said: Said = { remarks: compiled.remarks, rows: counts.rows };
  const columns = columnsOf(outline, byTable);
  const set = (more: Partial<Outline>) => onChange(pruned({ ...outline, ...more }));
  const options = columns.map(({ name }) => ({ value: name, label: name }));
  const named = tables.map(({ name }) => ({ value: name, label: name }));
  const shown = outline.show ?? [];
  const aggregates = shown.some((each) => each.aggregate) || !!outline.grouped?.length;
  const sortable = [
    ...shown.map((each) => each.name ?? (each.column ? shortOf(each.column) : "")).filter(Boolean),
    ...(aggregates ? [] : columns.map(({ name }) => name)),
  ];
  const show = (more: Shown[]) => onChange(withShown(outline, more));
  const complete = !!outline.from.table;
  return (
    <div className="outline">
      <div className="outline-lines" role="group" aria-label="The statement, put together">
        <Line title="From">
          <div className="outline-part">
            <Select
              size="small"
              showSearch={{ optionFilterProp: "label" }}
              aria-label="From table"
              placeholder="a table"
              value={outline.from.table || undefined}
              style={{ width: 220 }}
              options={named}
              onChange={(table: string) => onChange({ outline: 1, from: { table } })}
            />
            <Remarks said={said} path="from" />
          </div>
        </Line>
        {complete && (
          <>
            <Line title="With">
              <Joins
                outline={outline}
                source={source}
                environment={environment}
                words={words}
                said={said}
                tables={named}
                columns={options}
                onChange={set}
              />{" "}
              {/* prettier-ignore */}
            </Line>
            <Line title="Show">
              {shown.map((each, n) => (
                <ShownLine
                  key={n}
                  shown={each}
                  number={n}
                  said={said}
                  words={words}
                  columns={columns}
                  onChange={(one) => show(put(shown, n, one))}
                  onMove={(by) => show(moved(shown, n, by))}
                  onRemove={() => show(without(shown, n))}
                />
              ))}
              <div className="outline-part">
                <Select
                  size="small"
                  showSearch={{ optionFilterProp: "label" }}
                  aria-label="Show a column"
                  placeholder={shown.length ? "and a column" : "every column, or choose some"}
                  value={null}
                  style={{ width: 220 }}
                  options={options}
                  onChange={(column: string) => show([...shown, { column }])}
                />
                <Button
                  size="small"
                  type="text"
                  onClick={() => show([...shown, { aggregate: "count", name: "row_count" }])}
                >
                  and how many rows
                </Button>
                <Button size="small" type="text" onClick={() => show([...shown, { expression: "", name: "" }])}>
                  and an expression
                </Button>
                <Checkbox checked={!!outline.distinct} onChange={(e) => set({ distinct: e.target.checked })}>
                  each row once
                </Checkbox>
              </div>
            </Line>
            <Line title="Where">
              <Conditions
                condition={outline.where ?? { all: [] }}
                path="where"
                label="condition"
                columns={columns}
                words={words}
                said={said}
                onChange={(where) => set({ where })}
              />
            </Line>
            {aggregates && (
              <Line title="Grouped">
                <p className="outline-part" style={{ margin: 0 }}>
                  {outline.grouped?.length
                    ? `by ${outline.grouped.map((each) => `${each.bucket ? `${each.bucket} of ` : ""}${each.column ?? each.expression}`).join(", ")}`
                    : "all rows together"}
                  <Remarks said={said} path="grouped" />
                </p>
                <Conditions
                  condition={outline.having ?? { all: [] }}
                  path="having"
                  label="condition on groups"
                  columns={columns}
                  words={words}
                  said={said}
                  aggregates
                  onChange={(having) => set({ having })}
                />
              </Line>
            )}
            <Line title="Sorted">
              {(outline.sorted ?? []).map((each, n) => (
                <div className="outline-part" key={n}>
                  by{" "}
                  <Select
                    size="small"
                    showSearch={{ optionFilterProp: "label" }}
                    aria-label={`Sorted by, ${n + 1}`}
                    value={each.by}
                    style={{ width: 190 }}
                    options={sortable.map((value) => ({ value, label: value }))}
                    onChange={(by: string) => set({ sorted: put(outline.sorted, n, { ...each, by }) })}
                  />
                  <Button
                    size="small"
                    aria-label={`${each.descending ? "descending" : "ascending"}, sort ${n + 1}`}
                    onClick={() => set({ sorted: put(outline.sorted, n, { ...each, descending: !each.descending }) })}
                  >
                    {each.descending ? "descending" : "ascending"}
                  </Button>
                  <Button
                    size="small"
                    type="text"
                    aria-label={`Remove sort ${n + 1}`}
                    onClick={() => set({ sorted: without(outline.sorted, n) })}
                  >
                    Remove
                  </Button>
                  <Remarks said={said} path={`sorted[${n}]`} />
                </div>
              ))}
              <div className="outline-part">
                <Select
                  size="small"
                  showSearch={{ optionFilterProp: "label" }}
                  aria-label="Sort by"
                  placeholder={outline.sorted?.length ? "then by" : "in no order, or by"}
                  value={null}
                  style={{ width: 190 }}
                  options={sortable.map((value) => ({ value, label: value }))}
                  onChange={(by: string) => set({ sorted: [...(outline.sorted ?? []), { by }] })}
                />
              </div>
            </Line>
            <Line title="First">
              <div className="outline-part">
                <InputNumber
                  size="small"
                  aria-label="At most so many rows"
                  placeholder="all"
                  min={1}
                  value={outline.first ?? null}
                  style={{ width: 100 }}
                  onChange={(first) => set({ first: first ?? undefined })}
                />{" "}
                rows
                <Button size="small" loading={counts.busy} disabled={!draft.compiled} onClick={counts.count}>
                  Count the rows after each step
                </Button>
              </div>
            </Line>
          </>
        )}
      </div>
      {said.remarks
        .filter((each) => !each.where)
        .map((each, n) => (
          <p key={n} className={`outline-remark ${each.severity}`}>
            {each.message} {each.hint}
          </p>
        ))}
      <ProblemNote error={error ?? compiled.error ?? counts.error} />
      {counts.failed && <Failed error={counts.failed} />}
    </div>
  );
}

interface JoinsProps {
  outline: Outline;
  source: string;
  environment: string | undefined;
  words: Words;
  said: Said;
  tables: { value: string; label: string }[];
  columns: { value: string; label: string }[];
  onChange: (more: Partial<Outline>) => void;
}

/** The tables that are joined, and one to be joined: by its keys, where there are some. */
function Joins({ outline, source, environment, words, said, tables, columns, onChange }: JoinsProps) {
  const joins = outline.with ?? [];
  const [ways, setWays] = useState<{ table: string; ways: Join[][] } | null>(null);
  const propose = useMutation({
    mutationFn: (table: string) =>
      must(
        api.POST("/api/v1/outlines/joins", {
          body: { source, environment: environment!, outline: outline as unknown as Record<string, unknown>, table },
        }),
      ),
    onSuccess: (found, table) => {
      const proposed = found.map((each) => each.joins as unknown as Join[]);
      if (proposed.length > 1) return setWays({ table, ways: proposed });
      setWays(null);
      const taken = new Set(placesOf(outline).map((place) => aliasOf(place).toLowerCase()));
      const alone: Join = { table, ...(taken.has(table.toLowerCase()) ? { as: `${table}2` } : {}) };
      onChange({ with: [...joins, ...(proposed[0] ?? [alone])] });
    },
  });
  const before = (n: number) =>
    new Set(
      placesOf(outline)
        .slice(0, n + 1)
        .map(aliasOf),
    );
  const of = (aliases: Set<string>) => columns.filter(({ value }) => aliases.has(value.slice(0, value.indexOf("."))));
  return (
    <>
      {joins.map((join, n) => {
        const set = (more: Partial<Join>) => onChange({ with: put(joins, n, { ...join, ...more }) });
        const pairs = join.on ?? [];
        return (
          <div className="outline-part" key={n}>
            <Select
              size="small"
              showSearch={{ optionFilterProp: "label" }}
              aria-label={`How, table ${n + 1}`}
              value={join.join ?? "inner"}
              style={{ width: 176 }}
              options={words.joins.map((value) => ({ value, label: `${JOINS[value]} (${value})` }))}
              onChange={(kind: "inner" | "left" | "right" | "full") => set({ join: kind })}
            />
            <b>{join.table}</b>
            {join.as && <span className="dim">as {join.as}</span>}
            {pairs.map((pair, at) => (
              <span className="outline-part" key={at}>
                {at ? "and" : "where"}
                <Select
                  size="small"
                  showSearch={{ optionFilterProp: "label" }}
                  aria-label={`Left column ${at + 1}, table ${n + 1}`}
                  value={pair.left}
                  style={{ width: 150 }}
                  options={of(before(n))}
                  onChange={(left: string) => set({ on: put(pairs, at, { ...pair, left }) })}
                />
                <Select
                  size="small"
                  showSearch={{ optionFilterProp: "label" }}
                  aria-label={`Compared ${at + 1}, table ${n + 1}`}
                  value={pair.is ?? "="}
                  style={{ width: 58 }}
                  options={SIGNS}
                  onChange={(is: string) => set({ on: put(pairs, at, { ...pair, is }) })}
                />
                <Select
                  size="small"
                  showSearch={{ optionFilterProp: "label" }}
                  aria-label={`Right column ${at + 1}, table ${n + 1}`}
                  value={pair.right}
                  style={{ width: 150 }}
                  options={of(new Set([aliasOf(join)]))}
                  onChange={(right: string) => set({ on: put(pairs, at, { ...pair, right }) })}
                />
              </span>
            ))}
            <Button
              size="small"
              type="text"
              aria-label={`and… another pair of columns, table ${n + 1}`}
              onClick={() => {
                const left = of(before(n))[0]?.value;
                const right = of(new Set([aliasOf(join)]))[0]?.value;
                if (left && right) set({ on: [...pairs, { left, right }] });
              }}
            >
              and…
            </Button>
            <Button
              size="small"
              type="text"
              aria-label={n < joins.length - 1 ? `Remove from here on, table ${n + 1}` : `Remove table ${n + 1}`}
              onClick={() => onChange({ with: joins.slice(0, n) })}
            >
              Remove{n < joins.length - 1 ? " from here on" : ""}
            </Button>
            <Remarks said={said} path={`with[${n}]`} />
          </div>
        );
      })}
      {ways && (
        <div className="outline-part" role="group" aria-label={`Ways to ${ways.table}`}>
          {ways.table} can be joined in several ways:
          {ways.ways.map((way, n) => (
            <Button
              key={n}
              size="small"
              onClick={() => {
                setWays(null);
                onChange({ with: [...joins, ...way] });
              }}
            >
              {way.map((join) => join.on?.map((pair) => `${pair.left} = ${pair.right}`).join(" and ")).join(", then ")}
            </Button>
          ))}
        </div>
      )}
      <div className="outline-part">
        <Select
          size="small"
          showSearch={{ optionFilterProp: "label" }}
          aria-label="With table"
          placeholder={joins.length ? "and a table" : "no other table, or"}
          value={null}
          loading={propose.isPending}
          style={{ width: 220 }}
          options={tables}
          onChange={(table: string) => propose.mutate(table)}
        />
      </div>
      <ProblemNote error={propose.error} />
    </>
  );
}

interface ShownProps {
  shown: Shown;
  number: number;
  said: Said;
  words: Words;
  columns: { name: string; kind: string }[];
  onChange: (shown: Shown) => void;
  onMove: (by: number) => void;
  onRemove: () => void;
}
const MOMENTS = new Set(["date", "timestamp", "zoned", "any"]);
const NUMBERS = new Set(["integer", "decimal", "float", "any"]);
const OF_NUMBERS = new Set(["sum", "mean", "median"]);

/** The name that a column has where none is given. */
const usualName = ({ column, bucket, aggregate }: Shown): string => {
  const plain = bucket ?? (column ? shortOf(column) : "name");
  return column && aggregate ? `${aggregate}_${plain}` : plain;
};

/** One column of the result. */
function ShownLine({ shown, number, said, words, columns, onChange, onMove, onRemove }: ShownProps) {
  const label = `shown ${number + 1}`;
  const kind = columns.find((each) => each.name === shown.column)?.kind ?? "any";
  const without = (name: keyof Shown): Shown => omit(shown, name);
  const aggregates = words.aggregates.filter((each) => !OF_NUMBERS.has(each) || NUMBERS.has(kind));
  return (
    <div className="outline-part">
      {shown.expression !== undefined ? (
        <Input
          size="small"
          className="mono"
          aria-label={`Expression, ${label}`}
          placeholder="r.litres / 1000.0"
          value={shown.expression}
          style={{ width: 250 }}
          onChange={(e) => onChange({ ...shown, expression: e.target.value })}
        />
      ) : shown.column === undefined ? (
        <span>how many rows</span>
      ) : (
        <>
          <Select
            size="small"
            showSearch={{ optionFilterProp: "label" }}
            aria-label={`Column, ${label}`}
            value={shown.column}
            style={{ width: 190 }}
            options={columns.map(({ name }) => ({ value: name, label: name }))}
            onChange={(column: string) => onChange({ ...shown, column })}
          />
          {MOMENTS.has(kind) && !shown.aggregate && (
            <Select
              size="small"
              showSearch={{ optionFilterProp: "label" }}
              allowClear
              aria-label={`By, ${label}`}
              placeholder="as it is"
              value={shown.bucket}
              style={{ width: 110 }}
              options={words.buckets.map((value) => ({ value, label: `by ${value}` }))}
              onChange={(bucket?: string) => onChange(bucket ? { ...shown, bucket } : without("bucket"))}
            />
          )}
          {!shown.bucket && (
            <Select
              size="small"
              showSearch={{ optionFilterProp: "label" }}
              allowClear
              aria-label={`Aggregate, ${label}`}
              placeholder="each"
              value={shown.aggregate}
              style={{ width: 120 }}
              options={aggregates.map((value) => ({ value, label: spaced(value) }))}
              onChange={(aggregate?: string) => onChange(aggregate ? { ...shown, aggregate } : without("aggregate"))}
            />
          )}
          {(shown.aggregate === "first" || shown.aggregate === "last") && (
            <Select
              size="small"
              showSearch={{ optionFilterProp: "label" }}
              aria-label={`In order of, ${label}`}
              placeholder="in order of"
              value={shown.by}
              style={{ width: 150 }}
              options={columns.map(({ name }) => ({ value: name, label: name }))}
              onChange={(by: string) => onChange({ ...shown, by })}
            />
          )}
        </>
      )}
      as
      <Input
        size="small"
        aria-label={`Name, ${label}`}
        placeholder={usualName(shown)}
        value={shown.name ?? ""}
        style={{ width: 130 }}
        onChange={(e) => onChange(e.target.value ? { ...shown, name: e.target.value } : without("name"))}
      />
      <Button size="small" type="text" aria-label={`Move up, ${label}`} disabled={!number} onClick={() => onMove(-1)}>
        ↑
      </Button>
      <Button size="small" type="text" aria-label={`Remove, ${label}`} onClick={onRemove}>
        Remove
      </Button>
      <Remarks said={said} path={`show[${number}]`} />
    </div>
  );
}
