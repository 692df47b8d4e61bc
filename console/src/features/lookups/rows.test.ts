import { describe, expect, it } from "vitest";
import { changedRows } from "./rows";

describe("changes of a lookup", () => {
  it("are rows by column and keys, and a row that goes is not put", () => {
    const changed = { '["N1"]': ["N1", "Far North"], '["S1"]': ["S1", null] };
    expect(changedRows(["code", "name"], changed, [["E1", "East"]], new Set(['["S1"]']))).toEqual({
      put: [
        { code: "N1", name: "Far North" },
        { code: "E1", name: "East" },
      ],
      remove: [["S1"]],
    });
  });
});
