/** Cells of a preview as text, in order, for the clipboard and small files. Pure. */

export type Cell =
  string | null | { text: string; characters: number; kept: boolean } | { bytes: number; media: string; kept: boolean };

export interface GridColumn {
  name: string;
  kind: string;
}

const numeric = new Set(["integer", "decimal", "float"]);
export const isNumber = (column: GridColumn, cell: Cell): boolean =>
  typeof cell === "string" &&
  (numeric.has(column.kind) || (column.kind === "any" && cell !== "" && !Number.isNaN(Number(cell))));

/** What a cell is as plain text: null is nothing, a binary one says what it is. */
export function plain(cell: Cell): string {
  if (cell === null) return "";
  if (typeof cell === "string") return cell;
  return "media" in cell ? `[${cell.media}, ${cell.bytes} bytes]` : cell.text;
}

/** Row numbers in the order of one column; nulls last, numbers as numbers, the rest by the reader's language. */
export function sorted(rows: readonly Cell[][], column: number, descending: boolean): number[] {
  const order = rows.map((_, i) => i);
  const texts = rows.map((row) => (row[column] === null ? null : plain(row[column]!)));
  const numbers = texts.every((t) => t === null || (t !== "" && !Number.isNaN(Number(t))));
  const compare = new Intl.Collator(undefined, { numeric: true }).compare;
  return order.sort((a, b) => {
    const [x, y] = [texts[a], texts[b]];
    if (x === null || y === null || x === undefined || y === undefined)
      return x === y ? a - b : x === null || x === undefined ? 1 : -1;
    const found = numbers ? Number(x) - Number(y) : compare(x, y);
    return (descending ? -found : found) || a - b;
  });
}

/** A text that a spreadsheet would take for a formula, with an apostrophe before it; the service's files do the same by choice. */
export const guarded = (text: string): string =>
  /^[=+\-@\t\r\n\uFF1D\uFF0B\uFF0D\uFF20]/.test(text) ? `'${text}` : text;

/** Names and cells as texts, line by line; `guard`: nothing may be taken for a formula. */
const lines = (
  columns: readonly GridColumn[],
  rows: readonly Cell[][],
  quoted: (text: string, isNull: boolean) => string,
  guard: boolean,
): string[][] => {
  const safe = (text: string) => (guard ? guarded(text) : text);
  return [
    columns.map((c) => quoted(safe(c.name), false)),
    ...rows.map((row) =>
      row.map((cell, i) => quoted(isNumber(columns[i]!, cell) ? plain(cell) : safe(plain(cell)), cell === null)),
    ),
  ];
};

const tab = (text: string): string => (/["\t\n\r]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);

/** Delimited by tabs, with headers: what a spreadsheet takes from the clipboard. */
export const forSpreadsheet = (columns: readonly GridColumn[], rows: readonly Cell[][], guard = false): string =>
  lines(columns, rows, tab, guard)
    .map((line) => line.join("\t"))
    .join("\n");

/** Comma-separated with headers, as RFC 4180 has it; null is nothing, empty text is "". */
export const asCsv = (columns: readonly GridColumn[], rows: readonly Cell[][], guard = false): string => {
  const quoted = (text: string, isNull: boolean) =>
    !isNull && (text === "" || /[",\n\r]/.test(text)) ? `"${text.replaceAll('"', '""')}"` : text;
  return lines(columns, rows, quoted, guard)
    .map((line) => line.join(",") + "\n")
    .join("");
};

/** Padded with spaces for a mail: numbers to the right, the rest to the left. */
export function aligned(columns: readonly GridColumn[], rows: readonly Cell[][]): string {
  const flat = (text: string) => text.replace(/\s*\n\s*/g, " ");
  const texts = rows.map((row) => row.map((cell) => flat(plain(cell))));
  const widths = columns.map((c, i) => Math.max(c.name.length, ...texts.map((row) => row[i]!.length)));
  const line = (row: string[], right: (i: number) => boolean) =>
    row
      .map((text, i) => (right(i) ? text.padStart(widths[i]!) : text.padEnd(widths[i]!)))
      .join("  ")
      .trimEnd();
  const right = columns.map((c, i) => rows.length > 0 && rows.every((row) => row[i] === null || isNumber(c, row[i]!)));
  return [
    line(
      columns.map((c) => c.name),
      (i) => right[i]!,
    ),
    line(
      widths.map((w) => "-".repeat(w)),
      () => false,
    ),
    ...texts.map((row) => line(row, (i) => right[i]!)),
  ].join("\n");
}

/** A text in the pieces that hold what is searched for, and those between; upper and lower case are one. */
export function parted(text: string, find: string): { text: string; hit: boolean }[] {
  const [low, wanted] = [text.toLowerCase(), find.toLowerCase()];
  if (!wanted || low.length !== text.length) return [{ text, hit: !!wanted && low.includes(wanted) }]; // a letter that becomes two
  const found: { text: string; hit: boolean }[] = [];
  let at = 0;
  for (let next = low.indexOf(wanted); next >= 0; next = low.indexOf(wanted, at)) {
    if (next > at) found.push({ text: text.slice(at, next), hit: false });
    found.push({ text: text.slice(next, next + wanted.length), hit: true });
    at = next + wanted.length;
  }
  if (at < text.length || !found.length) found.push({ text: text.slice(at), hit: false });
  return found;
}

/** Where a text is found: the row's place among `lines`, the column's among `shown`; row by row. */
export function hitsIn(
  rows: readonly Cell[][],
  lines: readonly number[],
  shown: readonly number[],
  find: string,
): [number, number][] {
  const wanted = find.toLowerCase();
  if (!wanted) return [];
  return lines.flatMap((row, r) =>
    shown.flatMap((column, c): [number, number][] =>
      plain(rows[row]![column]!).toLowerCase().includes(wanted) ? [[r, c]] : [],
    ),
  );
}
