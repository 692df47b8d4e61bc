/** As short as a list of choices wants it; the whole table stands in docs/rights.md. */
export const roles = [
  ["reader", "sees runs, schedules and the night, and takes results"],
  ["runner", "starts, cancels and repeats runs, and looks into sources"],
  ["author", "writes extracts, schedules, values and calendars, and decides what is held"],
  ["administrator", "looks after people, sources with their secrets, environments, channels and workers"],
] as const;

/** Characters of a password; the service has the same rule. */
export const LEAST_PASSWORD = 10;
