/** What a statement is put together from, and how choosing changes it. Pure. */
import type { components } from "../../api/schema";

export interface Place {
  table: string;
  as?: string;
}
export interface Pair {
  left: string;
  is?: string;
  right: string;
}
export interface Join extends Place {
  join?: "inner" | "left" | "right" | "full";
  on?: Pair[];
}
export interface Term {
  column?: string;
  expression?: string;
  bucket?: string;
  aggregate?: string;
  by?: string;
}
export interface Shown extends Term {
  name?: string;
}
export type Operand = string | number | boolean | { parameter?: string; column?: string };
export interface Condition extends Term {
  test?: string;
  value?: Operand;
  values?: Operand[];
  all?: Condition[];
  any?: Condition[];
  none?: Condition[];
}
export interface Sorted {
  by: string;
  descending?: boolean;
  nulls?: string;
}
export interface Outline {
  outline: 1;
  from: Place;
  with?: Join[];
  show?: Shown[];
  distinct?: boolean;
  where?: Condition;
  grouped?: Term[];
  having?: Condition;
  sorted?: Sorted[];
  first?: number;
}
export type Words = NonNullable<components["schemas"]["LanguageView"]["outlines"]>;
export type Remark = components["schemas"]["RemarkView"];
/** A column that may be chosen: how it is named in the outline, and of what kind it is. */
export interface Column {
  name: string;
  kind: string;
}

export const BLANK: Outline = { outline: 1, from: { table: "" } };
export const GROUPS = ["all", "any", "none"] as const;
export type Group = (typeof GROUPS)[number];

const PLAIN = /^[\p{L}_][\p{L}\p{N}_]{0,62}$/u;

/** The short name that columns of a table are named by; one is made where its own is more than letters, digits and _. */
export function aliasOf(place: Place): string {
  if (place.as) return place.as;
  const own = place.table.split(".").at(-1)!;
  if (PLAIN.test(own)) return own;
  const made = own
    .replace(/[^\p{L}\p{N}_]+/gu, "_")
    .replace(/^_+|_+$/g, "")
    .slice(0, 60);
  return PLAIN.test(made) ? made : `t_${made}`.replace(/_+$/, "");
}
export const placesOf = (outline: Outline): Place[] => [outline.from, ...(outline.with ?? [])];

/** The columns of the tables so far, as they are named: by their table where there is more than one. */
export function columnsOf(outline: Outline, tables: Record<string, Column[]>): Column[] {
  return placesOf(outline).flatMap((place) =>
    (tables[place.table] ?? []).map(({ name, kind }) => ({ name: `${aliasOf(place)}.${name}`, kind })),
  );
}

/** The short name of a column: without its table. */
export const shortOf = (column: string): string => column.slice(column.indexOf(".") + 1);

export const groupOf = (condition: Condition): Group | undefined =>
  GROUPS.find((word) => condition[word] !== undefined);

const same = (one: Term, other: Term): boolean =>
  (one.column ?? "") === (other.column ?? "") &&
  (one.expression ?? "") === (other.expression ?? "") &&
  (one.bucket ?? "") === (other.bucket ?? "");

const key = ({ column, expression, bucket }: Term): Term => ({
  ...(column ? { column } : {}),
  ...(expression ? { expression } : {}),
  ...(bucket ? { bucket } : {}),
});

/** Other columns are shown. What is shown beside an aggregate is what rows are grouped by; keys that are not shown stay. */
export function withShown(outline: Outline, show: Shown[]): Outline {
  const before = (outline.show ?? []).filter((each) => !each.aggregate);
  const unseen = (outline.grouped ?? []).filter((each) => !before.some((one) => same(one, each)));
  const plain = show.filter((each) => !each.aggregate && !(each.expression && sums(each.expression)));
  const any = show.some((each) => each.aggregate ?? (each.expression && sums(each.expression)));
  const grouped = any || unseen.length ? [...unseen, ...plain.map(key)] : [];
  return pruned({ ...outline, show, grouped });
}

/** Whether an expression brings rows together, as far as its look tells. */
const sums = (expression: string): boolean => /\b(sum|count|avg|min|max|median)\s*\(/i.test(expression);

/** Without parts that say nothing. */
export function pruned(outline: Outline): Outline {
  const made = { ...outline };
  for (const part of ["with", "show", "grouped", "sorted"] as const) if (!made[part]?.length) delete made[part];
  for (const part of ["where", "having"] as const) {
    const kept = made[part] && prunedCondition(made[part]);
    if (kept) made[part] = kept;
    else delete made[part];
  }
  if (!made.distinct) delete made.distinct;
  if (!made.first) delete made.first;
  return made;
}

function prunedCondition(condition: Condition): Condition | undefined {
  const word = groupOf(condition);
  if (!word) return condition;
  const members = condition[word]!.map(prunedCondition).filter((each) => each !== undefined);
  return members.length ? { [word]: members } : undefined;
}

/** What was typed as a value: `:name` is a parameter, `[a column]` another column. */
export function operandOf(typed: string): Operand {
  const parameter = /^:([a-z_]\w*)$/.exec(typed.trim());
  if (parameter) return { parameter: parameter[1]! };
  const column = /^\[(.+)\]$/.exec(typed.trim());
  return column ? { column: column[1]! } : typed;
}

/** The same as it is typed. */
export function typedOf(value: Operand | undefined): string {
  if (value === undefined) return "";
  if (typeof value !== "object") return String(value);
  return value.parameter ? `:${value.parameter}` : `[${value.column ?? ""}]`;
}

export const MANY = new Set(["in_list", "not_in_list", "between"]);
export const ALONE = new Set(["is_null", "is_not_null", "holds"]);

/** A part without some of its fields. */
export function omit<T extends object>(part: T, ...names: (keyof T)[]): T {
  const made = { ...part };
  for (const name of names) delete made[name];
  return made;
}

/** A condition with another test, whose value stays where it can. */
export function withTest(condition: Condition, test: string): Condition {
  const { value, values } = condition;
  const rest = omit(condition, "value", "values");
  const typed = values?.length ? values : value === undefined ? [] : [value];
  if (ALONE.has(test)) return { ...rest, test };
  if (test === "between") return { ...rest, test, values: [typed[0] ?? "", typed[1] ?? ""] };
  const first = typed[0];
  const parameter = typeof first === "object" && first.parameter;
  if (MANY.has(test) && !parameter) return { ...rest, test, values: typed };
  return { ...rest, test, value: first ?? "" };
}

/** What is said of a part and of what is in it. */
export const remarksAt = (remarks: Remark[], path: string): Remark[] =>
  remarks.filter(({ where }) => where === path || where.startsWith(`${path}.`) || where.startsWith(`${path}[`));

/** A part moved by so many places among its like. */
export function moved<T>(all: T[], at: number, by: number): T[] {
  const to = at + by;
  if (to < 0 || to >= all.length) return all;
  const made = [...all];
  made.splice(to, 0, ...made.splice(at, 1));
  return made;
}

export const put = <T>(all: T[] | undefined, at: number, one: T): T[] =>
  (all ?? []).map((each, n) => (n === at ? one : each));
export const without = <T>(all: T[] | undefined, at: number): T[] => (all ?? []).filter((_, n) => n !== at);
