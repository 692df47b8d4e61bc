import { expect, it } from "vitest";
import type { Parameter } from "../api/client";
import { bare, firstField, valuesOf } from "./values";

const parameter = (more: Partial<Parameter>): Parameter => ({ ...bare, name: "p", ...more });

it("shows defaults in the shape of their field", () => {
  expect(firstField(parameter({ type: "decimal", default: 4000 }))).toBe("4000");
  expect(firstField(parameter({ type: "boolean", default: "true" }))).toBe(true);
  expect(firstField(parameter({ is_list: true, default: ["North", "South"] }))).toEqual(["North", "South"]);
  expect(firstField(parameter({}))).toBeUndefined();
});

it("does not send what was left empty", () => {
  const declared = [
    parameter({ name: "a" }),
    parameter({ name: "b", is_list: true }),
    parameter({ name: "c", type: "boolean" }),
  ];
  expect(valuesOf(declared, { a: "", b: [], c: false })).toEqual({ c: false });
  expect(valuesOf(declared, { a: "x", b: ["1"], c: undefined })).toEqual({ a: "x", b: ["1"] });
});
