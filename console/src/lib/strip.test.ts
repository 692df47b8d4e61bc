import { expect, it } from "vitest";
import { layStrip } from "./strip";

const run = (id: number, folder: string, started_at: string | null, ended_at: string | null) => ({ id, folder, extract: `e${id}`, state: "finished", started_at, ended_at });
const from = Date.parse("2026-11-24T00:00:00Z");
const to = Date.parse("2026-11-24T12:00:00Z");

it("lays runs into lanes by the first part of their folder", () => {
  const strip = layStrip([run(1, "regulation/water quality", "2026-11-24T03:00:00Z", "2026-11-24T06:00:00Z"), run(2, "", "2026-11-24T09:00:00Z", null)], from, to);
  expect(strip.lanes).toEqual(["(top)", "regulation"]);
  expect(strip.bars.map((b) => [b.id, b.lane, b.from, b.to])).toEqual([[1, 1, 0.25, 0.5], [2, 0, 0.75, 1]]);
  expect(strip.hours).toHaveLength(12);
});

it("marks what is held or late", () => {
  const long = run(1, "a", "2026-11-24T03:00:00Z", "2026-11-24T04:00:00Z");
  const strip = layStrip([{ ...long, held: "held", late: true }, { ...long, held: "released" }, { ...long, late: true }], from, to);
  expect(strip.bars.map((b) => b.state)).toEqual(["held", "finished", "late"]);
});

it("leaves out what has not begun or lies outside the window", () => {
  const strip = layStrip([run(1, "a", null, null), run(2, "a", "2026-11-23T01:00:00Z", "2026-11-23T02:00:00Z")], from, to);
  expect(strip.bars).toEqual([]);
});
