// @vitest-environment jsdom
import { expect, it } from "vitest";
import type { KeptDraft } from "../../api/client";
import { opened, type Draft } from "./useDraft";

it("opens a draft that is older than some fields, of its own and of its parameters", () => {
  const saved = { statement: "select 1", parameters: [], steps: [], notes: "" } as unknown as Draft;
  const old = { statement: "select :zone", parameters: [{ name: "zone", type: "text", allowed: ["N"] }] };
  const found = opened(saved, { content: old, base: 3, version: 1 } as unknown as KeptDraft);
  expect(found).toMatchObject({ base: 3, statement: "select :zone", steps: [] });
  expect(found.parameters[0]).toMatchObject({ name: "zone", allowed: ["N"], lookup: {}, labels: {}, required: true });
});
