import { describe, expect, it } from "vitest";
import {
  begun,
  combinesWords,
  constantOf,
  freeName,
  inputWords,
  turnedTo,
  wayOf,
  WAYS,
  withValue,
  type Input,
} from "./inputs";

const used: Input = {
  name: "used",
  extract: "use",
  values: { zone: { parameter: "zone" }, ids: { input: "n", column: "id" } },
};

describe("inputs", () => {
  it("says each in a line", () => {
    expect(inputWords(used)).toBe("the result of use, with zone :zone, ids n.id");
    expect(inputWords({ name: "n", lookup: "names" })).toBe("the lookup names");
    expect(inputWords({ name: "u", extract: "use", statement: 2, stored: true })).toBe(
      "the result of use, statement 2, or what is stored of it",
    );
    expect(combinesWords([used, { name: "use", extract: "use" }, { name: "n", lookup: "names" }])).toBe(
      "used (use), use and n (the lookup names)",
    );
    expect(combinesWords([])).toContain("Nothing");
  });
  it("knows where a value comes from, and begins each way as that", () => {
    for (const { value } of WAYS) expect(wayOf(begun(value))).toBe(value);
    expect(wayOf({ from: "2026-11-01", to: "2026-11-30" })).toBe("constant");
    expect(wayOf(["a", "b"])).toBe("constant");
  });
  it("keeps no empty values, and none of what it was before", () => {
    expect(withValue({ name: "u", extract: "use" }, "top", "5")).toEqual({
      name: "u",
      extract: "use",
      values: { top: "5" },
    });
    expect(withValue({ name: "u", extract: "use", values: { top: "5" } }, "top", undefined)).toEqual({
      name: "u",
      extract: "use",
    });
    expect(turnedTo(used, "lookup", "names")).toEqual({ name: "used", lookup: "names" });
  });
  it("reads a list by its commas, and finds a free name that a statement can say", () => {
    expect(constantOf("a, b,,c ", { is_list: true })).toEqual(["a", "b", "c"]);
    expect(constantOf("a, b", { is_list: false })).toBe("a, b");
    expect(freeName([used], "used")).toBe("used_2");
    expect(freeName([used, { name: "USED_2" }], "used")).toBe("used_3");
    expect(freeName([], "2nd set.of")).toBe("_2nd_set_of");
  });
});
