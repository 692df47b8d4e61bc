/** What was decided about an extract, each thing in one line of plain words. Pure. */
import type { Output, Parameter, Run, Schedule, Source } from "../api/client";
import { amount, moment, momentIn, spaced } from "./words";

/** "a, b and c". */
export const listed = (names: string[]): string =>
  names.length < 2 ? (names[0] ?? "") : `${names.slice(0, -1).join(", ")} and ${names[names.length - 1]!}`;

const capital = (text: string) => text.slice(0, 1).toUpperCase() + text.slice(1);

const plain = (value: unknown): string =>
  Array.isArray(value) ? value.map(plain).join(", ") : typeof value === "string" ? value : JSON.stringify(value);

/** `inputs`: how many it combines. */
export function readsWords(name: string, source: Source | undefined, inputs = 0): string {
  if (!name) return inputs ? `${capital(amount(inputs, "input"))}.` : "Nothing: it computes from its values.";
  if (!source) return name;
  const where = source.addresses.map((address) => address.environment);
  return `${name} (${source.engine}), ${where.length ? `in ${listed(where)}` : "without an address yet"}, read-only`;
}

/** What a parameter is where nobody gives it a value. */
export const givenWords = (p: Parameter): string => {
  if (p.shared) return `the shared value ${p.shared}`;
  if (p.default !== null && p.default !== undefined && p.default !== "") return plain(p.default);
  return p.required ? "must be given" : "may be empty";
};

export const asksWords = (parameters: Parameter[]): string =>
  parameters.length ? parameters.map((p) => `${p.name || "?"}: ${givenWords(p)}`).join("; ") : "No values.";

const set = (options: Record<string, unknown> | undefined) => Object.keys(options ?? {}).length;
/** Of the settings of all files, those that a delivery minds and not what is in them. */
export const OF_DELIVERY = ["if_exists", "mode", "group"];

export function givesWords(formats: string[], fileName: string, output: Output): string {
  const files = Object.entries(output.files ?? {}).filter(([name]) => !OF_DELIVERY.includes(name));
  const options =
    formats.reduce((sum, format) => sum + set(output.formats?.[format]), 0) + files.length + set(output.documents);
  const columns = output.columns ?? [];
  return [
    `${listed(formats) || "No file"}${fileName ? `, named ${fileName}` : ""}`,
    ...(Array.isArray(columns)
      ? columns.length
        ? [`${amount(columns.length, "column")} chosen`]
        : []
      : ["columns chosen by statement"]),
    ...(options ? [`${amount(options, "option")} set`] : []),
  ].join("; ");
}

/** A bound that a result must meet, as the service has it. */
export interface Guard {
  [setting: string]: unknown;
  guard: string;
  then: string;
  at_least?: number;
  at_most?: number;
  percent?: number;
  of_last?: number;
  same?: string;
  columns?: string[];
  lookup?: string;
  /** The name of a step, or its number. */
  step?: string;
}
const ALIKE: Record<string, string> = { weekday: " of the same weekday", month_day: " of the same day of the month" };

const bounds = (g: Guard) =>
  [
    g.at_least === undefined ? "" : `at least ${amount(g.at_least, "row")}`,
    g.at_most === undefined ? "" : `at most ${amount(g.at_most, "row")}`,
  ]
    .filter(Boolean)
    .join(", ");

function guardWords(g: Guard): string {
  switch (g.guard) {
    case "rows":
      return bounds(g);
    case "step_rows":
      return `${bounds(g)} after step ${g.step}`;
    case "same_rows":
      return `as many rows after step ${g.step} as before`;
    case "all_found":
      return `a match for each row in step ${g.step}`;
    case "in_lookup":
      return `${listed(g.columns ?? [])} in the lookup ${g.lookup}`;
    case "not_empty":
      return "not empty";
    case "change":
      return `rows within ${g.percent} % of the last ${g.of_last} runs${ALIKE[g.same ?? ""] ?? ""}`;
    case "columns":
      return "columns as they were";
    case "not_null":
      return `no null in ${listed(g.columns ?? [])}`;
    case "no_duplicate":
      return `no duplicate of ${listed(g.columns ?? [])}`;
  }
  return spaced(g.guard);
}

export const holdsWords = (guards: Guard[]): string =>
  guards.length
    ? capital(guards.map((g) => `${guardWords(g)}, else ${g.then === "hold" ? "held" : "warned of"}`).join("; "))
    : "Nothing: every result is delivered as it is.";

const EXISTING: Record<string, string> = {
  overwrite: "a file of that name is overwritten",
  rename: "where a file of that name exists the new one is renamed",
  fail: "the run fails where a file of that name exists",
};

export function goesWords(into: string, output: Output): string {
  const folders = into
    .split(/[,;]/)
    .map((each) => each.trim())
    .filter(Boolean);
  if (!folders.length) return "Into the result store only: no folder is named.";
  const manner = plain((output.files ?? {}).if_exists ?? "overwrite");
  return `Into ${listed(folders)}; ${EXISTING[manner] ?? spaced(manner)}`;
}

export const runsWords = (schedules: Schedule[]): string =>
  schedules.length
    ? schedules
        .map((s) => {
          const next = s.next_due[0];
          const when = s.paused_at ? "paused" : next ? `next ${momentIn(next.at, s.zone)}` : "nothing is left to come";
          return `${s.name}: ${s.rule}, ${when}`;
        })
        .join("; ")
    : "By hand only: no schedule runs it.";

export function becameWords(run: Run | undefined): string {
  if (!run) return "It has not run yet.";
  const rows = run.state === "finished" && run.rows !== null ? ` with ${amount(run.rows, "row")}` : "";
  const more = [run.held === "held" ? "held" : run.held, run.late ? "late" : ""].filter(Boolean);
  return `Run ${run.id}, ${moment(run.queued_at)}: ${spaced(run.state)}${rows}${more.map((word) => `, ${spaced(word)}`).join("")}`;
}
