/** What a page waits for, by the first word of a query's key: as it is told once that takes so long that one would wonder. */
export const WAITED: Record<string, string> = {
  alerts: "the alerts",
  backfill: "the backfill",
  backfills: "the backfills",
  calendars: "the calendars",
  catalogue: "the tables of the source",
  "catalogue-search": "what was found in the sources",
  "channel-kinds": "the kinds of channels",
  channels: "the channels",
  differences: "the differences",
  drafts: "your drafts",
  "dry-run": "what the run would do",
  due: "the due times",
  engines: "the engines",
  environments: "the environments",
  extract: "the extract",
  extracts: "the extracts",
  file: "the file",
  groups: "the groups",
  log: "the run log",
  lookup: "the lookup",
  "lookup-rows": "the rows of the lookup",
  lookups: "the lookups",
  night: "the night",
  "own-alerts": "your alerts",
  people: "the people",
  profile: "the profile",
  results: "the result files",
  revisions: "the revisions",
  run: "the run",
  runs: "the runs",
  schedule: "the schedule",
  "schedule-month": "the month",
  schedules: "the schedules",
  sendings: "what was sent",
  sessions: "where you are signed in",
  source: "the source",
  "source-query": "the source’s answer",
  sources: "the sources",
  table: "the table",
  tokens: "the tokens",
  values: "the values",
  workers: "the workers",
};

/** Asked for beside what the page is for, or told where it stands: nobody waits for these. */
export const ASIDE = new Set([
  "bell",
  "diagnostics",
  "draft",
  "favourites",
  "find",
  "formats",
  "me",
  "outline",
  "phrase",
  "phrases",
  "rule-times",
  "sample",
  "status",
  "steps-check",
  "text-differences",
]);

/** "Loading the run and the run log…"; empty: nothing is waited for. */
export function waitedFor(keys: unknown[]): string {
  const words = [...new Set(keys.map((key) => WAITED[String(key)]).filter(Boolean))];
  const last = words.pop();
  return last ? `Loading ${words.length ? `${words.join(", ")} and ` : ""}${last}…` : "";
}
