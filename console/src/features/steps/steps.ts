/** What can be done to a result after the fetch, and what each kind of step is told. Pure. */

/** A step as the service keeps it: its kind, and what that kind is told. */
export interface Step {
  [told: string]: unknown;
  step: string;
  name?: string;
  off?: boolean;
  statement?: number;
}
export interface StepColumn {
  name: string;
  kind: string;
}
/** A name, and what stands for it. */
export interface Named {
  name: string;
  as: string;
}
export type By = string | { column: string; descending?: boolean };

type FieldKind =
  | "expression"
  | "text"
  | "column"
  | "columns"
  | "order"
  | "new"
  | "news"
  | "lookup"
  | "on"
  | "taken"
  | "renamed"
  | "value"
  | "values"
  | "replaced"
  | "choice"
  | "number"
  | "flag";
export interface StepField {
  name: string;
  label: string;
  kind: FieldKind;
  choices?: [string, string][];
  hint?: string;
  /** What it is where nothing was said. */
  usual?: unknown;
}

const column = (label = "Column"): StepField => ({ name: "column", label, kind: "column" });
const into: StepField = { name: "column", label: "New column", kind: "text" };
const of: StepField = { name: "of", label: "Of", kind: "column" };
const within: StepField = {
  name: "within",
  label: "Within",
  kind: "columns",
  hint: "each group by itself; none: all rows",
};
const order: StepField = { name: "order", label: "In the order of", kind: "order", hint: "none: as the rows come" };

interface Kind {
  title: string;
  group: "Rows" | "Columns" | "Over rows" | "Shape";
  fields: StepField[];
}
export const KINDS: Record<string, Kind> = {
  filter: {
    title: "Keep rows where…",
    group: "Rows",
    fields: [{ name: "where", label: "Condition", kind: "expression", hint: "litres > 0 and district is not null" }],
  },
  first_rows: {
    title: "First rows",
    group: "Rows",
    fields: [{ name: "rows", label: "Rows", kind: "number" }, within, order],
  },
  sort: { title: "Sort", group: "Rows", fields: [{ ...order, label: "By", hint: "null comes last" }] },
  drop_duplicates: {
    title: "Drop duplicates",
    group: "Rows",
    fields: [
      { name: "by", label: "Equal in", kind: "columns", hint: "none: in every column" },
      {
        name: "keep",
        label: "Keep",
        kind: "choice",
        usual: "first",
        choices: [
          ["first", "the first"],
          ["last", "the last"],
        ],
      },
      order,
    ],
  },
  compute: {
    title: "New column",
    group: "Columns",
    fields: [into, { name: "as", label: "Expression", kind: "expression", hint: "litres / 1000" }],
  },
  rename: { title: "Rename", group: "Columns", fields: [{ name: "columns", label: "Columns", kind: "renamed" }] },
  reorder: { title: "Reorder", group: "Columns", fields: [{ name: "columns", label: "First", kind: "columns" }] },
  drop: { title: "Drop columns", group: "Columns", fields: [{ name: "columns", label: "Without", kind: "columns" }] },
  split: {
    title: "Split a text",
    group: "Columns",
    fields: [
      column(),
      { name: "at", label: "At", kind: "text" },
      { name: "into", label: "Into", kind: "news", hint: "names, separated by commas" },
      { name: "keep", label: "Keep the column", kind: "flag" },
    ],
  },
  fill_nulls: {
    title: "Fill nulls",
    group: "Columns",
    fields: [
      { name: "columns", label: "In", kind: "columns" },
      { name: "value", label: "With", kind: "value", hint: "empty: the last value before" },
      within,
      order,
    ],
  },
  replace_values: {
    title: "Replace values",
    group: "Columns",
    fields: [
      column("In"),
      { name: "values", label: "Values", kind: "replaced" },
      {
        name: "others",
        label: "Others",
        kind: "choice",
        usual: "keep",
        choices: [
          ["keep", "stay"],
          ["null", "become null"],
        ],
      },
    ],
  },
  change_kind: {
    title: "Change kind",
    group: "Columns",
    fields: [
      column(),
      {
        name: "kind",
        label: "Becomes",
        kind: "choice",
        choices: ["text", "integer", "decimal", "float", "boolean", "date", "timestamp"].map((each) => [each, each]),
      },
      { name: "places", label: "Decimal places", kind: "number", usual: 6 },
      {
        name: "unfit",
        label: "What is none of it",
        kind: "choice",
        usual: "fail",
        choices: [
          ["fail", "fails the run"],
          ["null", "becomes null"],
        ],
      },
    ],
  },
  group: {
    title: "Group",
    group: "Over rows",
    fields: [
      { name: "by", label: "By", kind: "columns", hint: "none: one row for all" },
      { name: "columns", label: "New columns", kind: "new", hint: "sum(litres), count(*)" },
    ],
  },
  share_of_total: { title: "Share of total", group: "Over rows", fields: [of, into, within] },
  running_total: { title: "Running total", group: "Over rows", fields: [of, into, within, order] },
  difference: { title: "Difference to the row before", group: "Over rows", fields: [of, into, within, order] },
  rank: {
    title: "Rank",
    group: "Over rows",
    fields: [
      into,
      { ...order, label: "By", hint: "null comes last" },
      within,
      {
        name: "ties",
        label: "Equal rows",
        kind: "choice",
        usual: "gaps",
        choices: [
          ["gaps", "share a place, the next are left out"],
          ["dense", "share a place, none is left out"],
          ["none", "have places of their own"],
        ],
      },
    ],
  },
  rows_to_columns: {
    title: "Rows to columns",
    group: "Shape",
    fields: [
      { name: "names", label: "Names from", kind: "column" },
      { name: "values", label: "Values from", kind: "column" },
      {
        name: "aggregate",
        label: "Where several meet",
        kind: "choice",
        usual: "sum",
        choices: ["sum", "count", "min", "max", "avg"].map((each) => [each, each]),
      },
      { name: "rows", label: "A row for each", kind: "columns", hint: "none: all other columns" },
      { name: "known", label: "Known values", kind: "values", hint: "in their order; none: those found" },
      { name: "column_total", label: "Name of a last column", kind: "text", hint: "empty: none" },
      { name: "row_total", label: "Word of a last row", kind: "text", hint: "empty: none" },
    ],
  },
  columns_to_rows: {
    title: "Columns to rows",
    group: "Shape",
    fields: [
      { name: "columns", label: "Columns", kind: "columns" },
      { name: "name_column", label: "Names into", kind: "text", usual: "name" },
      { name: "value_column", label: "Values into", kind: "text", usual: "value" },
      { name: "keep_nulls", label: "Keep nulls", kind: "flag", usual: true },
    ],
  },
  look_up: {
    title: "Look up",
    group: "Shape",
    fields: [
      { name: "lookup", label: "In", kind: "lookup" },
      { name: "on", label: "Where equal", kind: "on" },
      { name: "columns", label: "New columns", kind: "taken" },
      {
        name: "missing",
        label: "Without a match",
        kind: "choice",
        usual: "null",
        choices: [
          ["null", "null"],
          ["drop", "the row goes"],
          ["fail", "the run fails"],
        ],
      },
    ],
  },
};
export const GROUPS = ["Rows", "Columns", "Over rows", "Shape"] as const;

/** A name as an expression takes it. */
export const quoted = (name: string): string =>
  /^[a-z_][a-z0-9_]*$/.test(name) ? name : `"${name.replaceAll('"', '""')}"`;

/** A new step of a kind; with a column, about it. */
export function blank(kind: string, about?: StepColumn): Step {
  const name = about?.name ?? "";
  const told: Record<string, Record<string, unknown>> = {
    filter: { where: about ? `${quoted(name)} is not null` : "" },
    first_rows: { rows: 10, ...(about ? { order: [name] } : {}) },
    sort: { order: about ? [name] : [] },
    drop_duplicates: about ? { by: [name] } : {},
    compute: { column: "", as: about ? quoted(name) : "" },
    rename: { columns: about ? [{ name, as: name }] : [] },
    reorder: { columns: about ? [name] : [] },
    drop: { columns: about ? [name] : [] },
    split: { column: name, at: "-", into: about ? [`${name}_1`, `${name}_2`] : [] },
    fill_nulls: { columns: about ? [name] : [] },
    replace_values: { column: name, values: [{ from: "", to: "" }] },
    change_kind: { column: name, kind: "text" },
    group: { by: about ? [name] : [], columns: [{ name: "rows", as: "count(*)" }] },
    share_of_total: { of: name, column: "share" },
    running_total: { of: name, column: "running_total" },
    difference: { of: name, column: "difference" },
    rank: { column: "rank", order: about ? [{ column: name, descending: true }] : [] },
    rows_to_columns: { names: name, values: "" },
    columns_to_rows: { columns: about ? [name] : [], name_column: "name", value_column: "value" },
    look_up: { lookup: "", on: [{ name, as: "" }], columns: [{ name: "", as: "" }] },
  };
  return { step: kind, ...told[kind] };
}

/** What a column's header offers, by its kind. */
export const offered = (kind: string): string[] => [
  "filter",
  "sort",
  "group",
  ...(["integer", "decimal", "float", "any"].includes(kind)
    ? ["share_of_total", "running_total", "difference", "rank"]
    : ["rows_to_columns", "look_up"]),
  "fill_nulls",
  "replace_values",
  "change_kind",
  "rename",
  "drop",
];

/** With the step at one place at another. */
export function moved(steps: Step[], from: number, to: number): Step[] {
  const next = [...steps];
  const [step] = next.splice(from, 1);
  if (step) next.splice(to, 0, step);
  return next;
}

/** The step on, or off: it stays where it is and does nothing. */
export function turned(step: Step, on: boolean): Step {
  const next = { ...step, off: true };
  if (on) delete (next as Partial<Step>).off;
  return next;
}

/** A text of a field as the value that it is meant to be, by the kind of the column. */
export const valueOf = (text: string, kind: string): string | number | boolean =>
  kind === "boolean" && /^(true|false)$/.test(text)
    ? text === "true"
    : ["integer", "decimal", "float", "any"].includes(kind) && /^-?\d+(\.\d+)?$/.test(text)
      ? Number(text)
      : text;

/** How many steps do something, in words. */
export function doneWords(words: string[]): string {
  if (!words.length) return "Nothing: the files have what the statement gives.";
  const shown = words.slice(0, 3).join("; ");
  return `${shown[0]!.toUpperCase()}${shown.slice(1)}${words.length > 3 ? `; and ${words.length - 3} more` : ""}`;
}

export interface Counted {
  number: number;
  rows_in: number;
  rows_out: number;
  unmatched?: number;
}

/** Rows before and after each step, as far as a preview of these very steps has told; by the step's place. */
export function countsOf(
  steps: Step[],
  asked: Step[] | undefined,
  counted: Counted[] | undefined,
): (Counted | undefined)[] {
  let same = !!asked;
  return steps.map((step, place) => {
    same &&= JSON.stringify(step) === JSON.stringify(asked?.[place]);
    return same ? counted?.find((each) => each.number === place + 1) : undefined;
  });
}
