import { describe, expect, it } from "vitest";
import { arrowed, askedFor, sortedByClick, sortingOf } from "./sorting";

describe("how a list is sorted", () => {
  it("stands in the address, and is asked of the service", () => {
    expect(sortingOf("")).toEqual({ by: "", descending: false });
    expect(sortingOf("-data_date")).toEqual({ by: "data_date", descending: true });
    expect(askedFor("")).toEqual({ sort: undefined, descending: undefined });
    expect(askedFor("rows")).toEqual({ sort: "rows", descending: undefined });
    expect(askedFor("-rows")).toEqual({ sort: "rows", descending: true });
  });

  it("is shown at the one column that it is by, of those that can be", () => {
    const columns = [{ key: "rows", sorter: true }, { key: "name", sorter: true }, { key: "do" }];
    expect(arrowed(columns, "-rows").map((c) => c.sortOrder)).toEqual(["descend", null, undefined]);
    expect(arrowed(columns, "name").map((c) => c.sortOrder)).toEqual([null, "ascend", undefined]);
  });

  it("goes round at each click: up, down, as it came", () => {
    expect(sortedByClick({ columnKey: "rows", order: "ascend" })).toBe("rows");
    expect(sortedByClick([{ columnKey: "rows", order: "descend" }])).toBe("-rows");
    expect(sortedByClick({ columnKey: "rows", order: null })).toBe("");
    expect(sortedByClick({})).toBe("");
  });
});
