/** Inputs of a combination as they are written. Pure. */
import type { Parameter } from "../../api/client";
import { listed } from "../../lib/decisions";

export type Given = unknown;

export interface Input {
  [more: string]: unknown;
  name: string;
  /** Whose result it is; or else it is a lookup. */
  extract?: string;
  lookup?: string;
  /** Which statement of the extract, where it has several. */
  statement?: number;
  values?: Record<string, Given>;
  stored?: boolean;
}

/** Where a parameter of an input gets its value from. */
export const WAYS = [
  { value: "own", label: "as it is there" },
  { value: "constant", label: "a value" },
  { value: "parameter", label: "a parameter of this one" },
  { value: "column", label: "a column of an input" },
] as const;
export type Way = (typeof WAYS)[number]["value"];

const has = (value: Given, ...keys: string[]): value is Record<string, string> =>
  typeof value === "object" &&
  value !== null &&
  !Array.isArray(value) &&
  Object.keys(value).length === keys.length &&
  keys.every((key) => key in value);

export const isHanded = (value: Given): value is { parameter: string } => has(value, "parameter");
export const isDrawn = (value: Given): value is { input: string; column: string } => has(value, "input", "column");

export const wayOf = (value: Given): Way =>
  value === undefined ? "own" : isHanded(value) ? "parameter" : isDrawn(value) ? "column" : "constant";

/** What a value begins as when it is to come from elsewhere; undefined: nothing is given. */
export function begun(way: Way): Given {
  if (way === "own") return undefined;
  if (way === "parameter") return { parameter: "" };
  return way === "column" ? { input: "", column: "" } : "";
}

/** A constant as it is typed: of a list its members, separated by commas. */
export const typedOf = (value: Given): string =>
  Array.isArray(value) ? value.join(", ") : typeof value === "string" ? value : JSON.stringify(value);

export const constantOf = (text: string, parameter: Pick<Parameter, "is_list">): Given =>
  parameter.is_list
    ? text
        .split(",")
        .map((each) => each.trim())
        .filter(Boolean)
    : text;

/** With the value of one parameter, or without it. */
export function withValue(input: Input, name: string, value: Given): Input {
  const { values = {}, ...rest } = input;
  const next = { ...without(values, name), ...(value === undefined ? {} : { [name]: value }) };
  return Object.keys(next).length ? { ...rest, values: next } : rest;
}

const without = <T extends object>(from: T, key: string): T =>
  Object.fromEntries(Object.entries(from).filter(([each]) => each !== key)) as T;

/** With a setting, or without it where it is as by default. */
export const withSetting = (input: Input, name: "statement" | "stored", value: unknown): Input => ({
  ...without(input, name),
  ...(value ? { [name]: value } : {}),
});

/** Of another extract, or of a lookup: what belonged to the one before goes. */
export const turnedTo = (input: Input, what: "extract" | "lookup", name: string): Input =>
  what === "lookup" ? { name: input.name, lookup: name } : { name: input.name, extract: name };

const said = (value: Given): string =>
  isHanded(value) ? `:${value.parameter}` : isDrawn(value) ? `${value.input}.${value.column}` : typedOf(value);

/** One input in a line. */
export function inputWords(input: Input): string {
  if (input.lookup !== undefined) return `the lookup ${input.lookup || "…"}`;
  const values = Object.entries(input.values ?? {}).map(([name, value]) => `${name} ${said(value)}`);
  return [
    `the result of ${input.extract || "…"}${(input.statement ?? 1) > 1 ? `, statement ${input.statement}` : ""}`,
    ...(values.length ? [`with ${values.join(", ")}`] : []),
    ...(input.stored ? ["or what is stored of it"] : []),
  ].join(", ");
}

const short = (input: Input) => {
  const of = input.lookup !== undefined ? `the lookup ${input.lookup || "…"}` : input.extract || "…";
  return of === input.name ? of : `${input.name || "?"} (${of})`;
};

/** All of them, for the line of the page. */
export const combinesWords = (inputs: Input[]): string =>
  listed(inputs.map(short)) || "Nothing: results of other extracts and lookups can be combined here.";

/** A name that is free, made from what it is the result of. */
export function freeName(inputs: Input[], from: string): string {
  const taken = new Set(inputs.map((each) => each.name.toLowerCase()));
  const plain = from.replace(/[^A-Za-z0-9_]/g, "_").replace(/^(?=\d)/, "_") || "input";
  if (!taken.has(plain.toLowerCase())) return plain;
  for (let n = 2; ; n++) if (!taken.has(`${plain}_${n}`.toLowerCase())) return `${plain}_${n}`;
}
