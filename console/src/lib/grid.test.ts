import { expect, it } from "vitest";
import { aligned, asCsv, forSpreadsheet, hitsIn, isNumber, parted, plain, sorted, type Cell } from "./grid";

const columns = [
  { name: "district", kind: "text" },
  { name: "litres", kind: "decimal" },
];
const rows: Cell[][] = [
  ['Heron "Holt", old', "10"],
  ["Alder Moor", "9.5"],
  ["", null],
  [null, "-3"],
];

it("sorts numbers as numbers and puts nulls last, both ways", () => {
  expect(sorted(rows, 1, false)).toEqual([3, 1, 0, 2]);
  expect(sorted(rows, 1, true)).toEqual([0, 1, 3, 2]);
  expect(sorted(rows, 0, false)).toEqual([2, 1, 0, 3]);
});

it("copies for a spreadsheet with headers, quoting what would break a cell", () => {
  expect(
    forSpreadsheet(columns, [
      ["a\tb", "1"],
      ["two\nlines", null],
    ]),
  ).toBe('district\tlitres\n"a\tb"\t1\n"two\nlines"\t');
});

it("guards by choice what a spreadsheet would take for a formula: texts and names, never numbers", () => {
  const odd = [
    { name: "=name", kind: "text" },
    { name: "litres", kind: "decimal" },
  ];
  const cells: Cell[][] = [
    ["=1+1", "-3"],
    ["@x", null],
    ["a-b", "2"],
  ];
  expect(forSpreadsheet(odd, cells, true)).toBe("'=name\tlitres\n'=1+1\t-3\n'@x\t\na-b\t2");
  expect(asCsv(odd, cells, true)).toBe("'=name,litres\n'=1+1,-3\n'@x,\na-b,2\n");
  expect(forSpreadsheet(odd, cells)).toContain("\n=1+1\t");
});

it("keeps null and empty apart in a file", () => {
  expect(asCsv(columns, rows.slice(1))).toBe('district,litres\nAlder Moor,9.5\n"",\n,-3\n');
});

it("aligns numbers to the right and says what a binary value is", () => {
  expect(aligned(columns, rows.slice(1, 3))).toBe("district    litres\n----------  ------\nAlder Moor     9.5\n");
  expect(plain({ media: "image/png", bytes: 574, kept: true })).toBe("[image/png, 574 bytes]");
  expect([isNumber(columns[1]!, "1"), isNumber(columns[0]!, "1"), isNumber({ name: "v", kind: "any" }, "1e3")]).toEqual(
    [true, false, true],
  );
});

it("finds a text whatever its case, row by row, and parts it without losing a letter", () => {
  expect(hitsIn(rows, [1, 0], [0, 1], "o")).toEqual([
    [0, 0],
    [1, 0],
  ]);
  expect(hitsIn(rows, [0, 1, 2, 3], [1], "3")).toEqual([[3, 0]]);
  expect(hitsIn(rows, [0], [0], "")).toEqual([]);
  for (const [text, find, hits] of [
    ["Alder Moor", "OO", 1],
    ["ababa", "ab", 2],
    ["aaaa", "aa", 2],
    ["plain", "x", 0],
    ["İstanbul", "i", 1],
    ["", "a", 0],
  ] as const) {
    const pieces = parted(text, find);
    expect(pieces.map((piece) => piece.text).join("")).toBe(text);
    expect(pieces.filter((piece) => piece.hit)).toHaveLength(hits);
  }
});
