import { describe, expect, it } from "vitest";
import {
  columnsOf,
  moved,
  operandOf,
  pruned,
  remarksAt,
  typedOf,
  withShown,
  withTest,
  type Outline,
  type Remark,
} from "./outline";

const READINGS: Outline = { outline: 1, from: { table: "public.readings", as: "r" } };

describe("an outline that is chosen", () => {
  it("groups by what is shown beside an aggregate, and keeps keys that are not shown", () => {
    const month = { column: "r.read_at", bucket: "month", name: "month" };
    const plain = withShown(READINGS, [{ column: "r.meter_id" }, month]);
    expect(plain.grouped).toBeUndefined();
    const summed = withShown(plain, [{ column: "r.meter_id" }, month, { column: "r.litres", aggregate: "sum" }]);
    expect(summed.grouped).toEqual([{ column: "r.meter_id" }, { column: "r.read_at", bucket: "month" }]);
    expect(withShown(summed, [month, { column: "r.litres", aggregate: "sum" }]).grouped).toEqual([
      { column: "r.read_at", bucket: "month" },
    ]);
    expect(withShown(summed, [{ column: "r.meter_id" }]).grouped).toBeUndefined();
    const unseen = { ...READINGS, grouped: [{ column: "r.zone" }], show: [{ aggregate: "count" }] };
    expect(withShown(unseen, [{ aggregate: "count" }, { column: "r.meter_id" }]).grouped).toEqual([
      { column: "r.zone" },
      { column: "r.meter_id" },
    ]);
    expect(
      withShown(READINGS, [{ expression: "sum(r.litres) / 2", name: "half" }, { column: "r.zone" }]).grouped,
    ).toEqual([{ column: "r.zone" }]);
  });

  it("says nothing of what is empty", () => {
    const made = pruned({
      ...READINGS,
      with: [],
      where: { all: [{ any: [] }] },
      sorted: [],
      first: 0,
      distinct: false,
    });
    expect(made).toEqual(READINGS);
  });

  it("names columns by their table", () => {
    const outline = { ...READINGS, with: [{ table: "meters" }] };
    const tables = {
      "public.readings": [{ name: "litres", kind: "integer" }],
      meters: [{ name: "serial", kind: "text" }],
    };
    expect(columnsOf(outline, tables).map((each) => each.name)).toEqual(["r.litres", "meters.serial"]);
  });

  it("takes what is typed for a value, a parameter or another column, and writes it so again", () => {
    for (const [typed, value] of [
      [":since", { parameter: "since" }],
      ["[m.serial]", { column: "m.serial" }],
      ["last month", "last month"],
      [": since", ": since"],
    ] as const) {
      expect(operandOf(typed)).toEqual(value);
      expect(typedOf(operandOf(typed))).toBe(typed);
    }
    expect([typedOf(undefined), typedOf(false), typedOf(3)]).toEqual(["", "false", "3"]);
  });

  it("keeps a value where another test can have it", () => {
    const is = { column: "r.litres", test: "is", value: "5" };
    expect(withTest(is, "between").values).toEqual(["5", ""]);
    expect(withTest(withTest(is, "in_list"), "more")).toEqual({ ...is, test: "more" });
    expect(withTest(is, "is_null")).toEqual({ column: "r.litres", test: "is_null" });
    expect(withTest({ ...is, value: { parameter: "some" } }, "in_list").value).toEqual({ parameter: "some" });
  });

  it("finds what is said of a part, and not of its neighbour", () => {
    const at = (where: string) => ({ where }) as Remark;
    const all = [at("with[1]"), at("with[1].on[0]"), at("with[10]"), at("where.all[0]")];
    expect(remarksAt(all, "with[1]").map((each) => each.where)).toEqual(["with[1]", "with[1].on[0]"]);
    expect(moved(["a", "b", "c"], 2, -1)).toEqual(["a", "c", "b"]);
    expect(moved(["a"], 0, -1)).toEqual(["a"]);
  });
});
