/** Diagnostics count code points from 1; the editor counts UTF-16 units from 0. Pure. */
import type { Diagnostic } from "../../api/client";

/** Start and end of a diagnostic in the text, never beyond its line. */
export function spanOf(text: string, diagnostic: Pick<Diagnostic, "line" | "column" | "length">): [number, number] {
  const lines = text.split("\n");
  const row = Math.min(Math.max(diagnostic.line, 1), lines.length) - 1;
  const before = lines.slice(0, row).reduce((sum, line) => sum + line.length + 1, 0);
  const points = [...lines[row]!];
  const from = points.slice(0, diagnostic.column - 1).join("").length;
  const to =
    from + points.slice(diagnostic.column - 1, diagnostic.column - 1 + Math.max(diagnostic.length, 1)).join("").length;
  return to > from ? [before + from, before + to] : [Math.max(before, before + from - 1), before + from];
}

/** Which of the statements a line belongs to: the last that begins at or before it. */
export function partAt(parts: readonly { line: number }[], line: number): number {
  return Math.max(
    0,
    parts.findLastIndex((part) => part.line <= line),
  );
}
