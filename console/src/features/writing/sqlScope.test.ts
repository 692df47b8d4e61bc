import { expect, it } from "vitest";
import { completionAt, scopeAt, written, type TableWords } from "./sqlScope";

const tables: TableWords[] = [
  { name: "districts", kind: "table", columns: [["district_id", "integer"], ["name", "text"], ["zone", "text"]] },
  { name: "readings", kind: "table", columns: [["reading_id", "bigint"], ["district_id", "integer"], ["litres", "numeric"]] },
  { name: "archive.readings", kind: "view", columns: [["old_id", "bigint"]] },
  { name: "Odd Name", kind: "table", columns: [["Mixed Case", "text"]] },
];

/** Labels proposed at the bar in the text. */
function at(marked: string, kinds = ["column", "alias", "with", "table", "parameter"], engine = "postgresql"): string[] {
  const position = marked.indexOf("|");
  const found = completionAt(marked.replace("|", ""), position, tables, ["since", "zones"], engine, true);
  return found ? [...new Set(found.proposals.filter((p) => kinds.includes(p.kind)).map((p) => p.label))] : [];
}

it.each([
  ["select | from districts", ["district_id", "name", "zone"]],
  ["select d.| from districts d join readings r using (district_id)", ["district_id", "name", "zone"]],
  ["select r.l| from districts d, readings as r", ["reading_id", "district_id", "litres"]],
  ["select 1 from districts d where exists (select 1 from readings r where r.| = d.district_id)", ["reading_id", "district_id", "litres"]],
  ["select x.| from (select name as n, zone, litres + 1 as more from districts, readings) x", ["n", "zone", "more"]],
  ["select x.| from (select * from districts) x", ["district_id", "name", "zone"]],
  ["with u as (select district_id, sum(litres) as used from readings group by 1) select u.| from u", ["district_id", "used"]],
  ["with u (a, b) as (select 1, 2), v as (select a as c from u) select v.| from v", ["c"]],
  ["select name from districts union select | from readings", ["reading_id", "district_id", "litres"]],
  ["select name from districts; select | from readings", ["reading_id", "district_id", "litres"]],
  ["select r.| from archive.readings r", ["old_id"]],
  ["select archive.| from x", ["readings"]],
  ["select '|' from districts", []],
  ["select 1 -- |\nfrom districts", []],
])("knows the columns at the bar: %s", (marked, columns) => {
  const found = at(marked, marked.includes("archive.|") ? ["table"] : ["column"]);
  expect(found).toEqual(columns);
});

it("proposes tables and names made by with after from, and parameters after a colon", () => {
  expect(at("with u as (select 1 as one) select * from |")).toEqual(["u", "districts", "readings", "archive.readings", "Odd Name"]);
  expect(at("select 1 where x > :|")).toEqual(["since", "zones"]);
  expect(at("select x::|", ["parameter"])).toEqual([]);
});

it("keeps the outer tables in sight inside a correlated sub-query, the inner ones first", () => {
  const { sources } = scopeAt("select 1 from districts d where exists (select 1 from readings r where )", 68, tables, "postgresql");
  expect(sources.map((s) => s.alias)).toEqual(["r", "d"]);
});

it("writes names as the engine needs them", () => {
  expect([written("Odd Name", "postgresql"), written("Mixed", "postgresql"), written("Mixed", "duckdb"), written("a b", "mariadb"), written("archive.x", "sqlite")]).toEqual(['"Odd Name"', '"Mixed"', "Mixed", "`a b`", "archive.x"]);
});

it("answers for half-typed and hostile text", () => {
  for (const text of ["select 'a", "select (((", "with", "with a as (", "/* ", "select \"", ")))", "from from from", "select $x$ ", "é \u202e :"]) {
    for (let position = 0; position <= text.length; position++) completionAt(text, position, tables, [], "postgresql", true);
  }
  expect(at("select " + "(".repeat(600) + "|", ["table"]).length).toBe(4);
});

it("is quick with two thousand tables", () => {
  const many = Array.from({ length: 2000 }, (_, n) => ({ name: `t${n}`, kind: "table", columns: Array.from({ length: 10 }, (_, c) => [`c${c}`, "text"]) }));
  const found = completionAt("select c from t1999 x where x.c", 8, many, [], "postgresql", false);
  expect(found!.proposals.filter((p) => p.kind === "column")).toHaveLength(10);
});
