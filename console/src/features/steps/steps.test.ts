import { describe, expect, it } from "vitest";
import { blank, countsOf, doneWords, GROUPS, KINDS, moved, offered, quoted, valueOf } from "./steps";

describe("steps", () => {
  it("has a blank of each kind, with every field that the form asks for by its kind", () => {
    for (const [kind, { group, fields }] of Object.entries(KINDS)) {
      expect(GROUPS).toContain(group);
      const made = blank(kind, { name: "Litres", kind: "integer" });
      expect(made.step).toBe(kind);
      for (const field of fields)
        if (Array.isArray(made[field.name]))
          expect(["columns", "order", "new", "news", "on", "taken", "renamed", "replaced"]).toContain(field.kind);
      expect(
        Object.keys(made)
          .filter((key) => key !== "step")
          .every((key) => fields.some((f) => f.name === key)),
      ).toBe(true);
    }
  });
  it("quotes a column in an expression only where it must", () => {
    expect([quoted("litres"), quoted("Litres"), quoted('a "b"')]).toEqual(["litres", '"Litres"', '"a ""b"""']);
    expect(blank("filter", { name: "Read on", kind: "date" }).where).toBe('"Read on" is not null');
  });
  it("offers a number's header what is done with numbers", () => {
    expect(offered("decimal")).toContain("share_of_total");
    expect(offered("text")).not.toContain("share_of_total");
    for (const kind of ["text", "decimal"]) for (const each of offered(kind)) expect(KINDS).toHaveProperty(each);
  });
  it("moves a step and reads values by the kind of their column", () => {
    const [a, b, c] = ["a", "b", "c"].map((step) => ({ step }));
    expect(moved([a!, b!, c!], 2, 0)).toEqual([c, a, b]);
    expect([
      valueOf("12.5", "decimal"),
      valueOf("12", "text"),
      valueOf("true", "boolean"),
      valueOf("x", "integer"),
    ]).toEqual([12.5, "12", true, "x"]);
  });
  it("shows counts only of steps that were asked as they stand", () => {
    const steps = [
      { step: "filter", where: "a" },
      { step: "drop", columns: ["b"] },
    ];
    const counted = [
      { number: 1, rows_in: 9, rows_out: 4 },
      { number: 2, rows_in: 4, rows_out: 4 },
    ];
    expect(countsOf(steps, steps, counted).map((each) => each?.rows_out)).toEqual([4, 4]);
    expect(countsOf([{ step: "filter", where: "c" }, steps[1]!], steps, counted)).toEqual([undefined, undefined]);
    expect(countsOf(steps, undefined, undefined)).toEqual([undefined, undefined]);
  });
  it("says in a line what is done", () => {
    expect(doneWords([])).toMatch(/^Nothing/);
    expect(doneWords(["keep rows where a", "b", "c", "d"])).toBe("Keep rows where a; b; c; and 1 more");
  });
});
