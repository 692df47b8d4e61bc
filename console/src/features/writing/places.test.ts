import { expect, it } from "vitest";
import { partAt, spanOf } from "./places";

it.each([
  ["select nmae", 1, 8, 4, "nmae"],
  ["-- 😀😀\nselect '😀', nmae", 2, 13, 4, "nmae"],
  ["a\r\nselect nmae", 2, 8, 4, "nmae"],
  ["select", 1, 7, 1, "t"],
  ["", 1, 1, 1, ""],
  ["a\nb", 9, 1, 5, "b"],
])("finds the place in %j", (text, line, column, length, piece) => {
  const [from, to] = spanOf(text, { line, column, length });
  expect(text.slice(from, to)).toBe(piece);
});

it("knows the statement under the cursor", () => {
  const parts = [{ line: 1 }, { line: 4 }, { line: 9 }];
  expect([1, 3, 4, 8, 20].map((line) => partAt(parts, line))).toEqual([0, 0, 1, 1, 2]);
  expect(partAt([], 3)).toBe(0);
});
