/** Changes of a lookup's rows as the service takes them. Pure. */
export type Cells = (string | null)[];

/** `changed` and `gone` by the key of a row as JSON; `added` as they stand. A row that goes is not changed as well. */
export function changedRows(
  names: string[],
  changed: Record<string, Cells>,
  added: Cells[],
  gone: Set<string>,
): { put: Record<string, unknown>[]; remove: unknown[] } {
  const record = (row: Cells) => Object.fromEntries(names.map((name, place) => [name, row[place] ?? null]));
  return {
    put: [
      ...Object.entries(changed)
        .filter(([key]) => !gone.has(key))
        .map(([, row]) => record(row)),
      ...added.map(record),
    ],
    remove: [...gone].map((key) => JSON.parse(key) as unknown),
  };
}
