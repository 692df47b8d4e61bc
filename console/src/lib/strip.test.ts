import { expect, it } from "vitest";
import { layStrip, rank } from "./strip";

const run = (id: number, folder: string, started_at: string | null, ended_at: string | null) => ({
  id,
  folder,
  extract: `e${id}`,
  state: "finished",
  started_at,
  ended_at,
});
const from = Date.parse("2026-11-24T00:00:00Z");
const to = Date.parse("2026-11-24T12:00:00Z");

it("lays runs into lanes by the first part of their folder", () => {
  const strip = layStrip(
    [
      run(1, "regulation/water quality", "2026-11-24T03:00:00Z", "2026-11-24T06:00:00Z"),
      run(2, "", "2026-11-24T09:00:00Z", null),
    ],
    from,
    to,
  );
  expect(strip.lanes.map((lane) => [lane.name, lane.rows])).toEqual([
    ["(top)", 1],
    ["regulation", 1],
  ]);
  expect(strip.lanes.map((lane) => lane.bars.map((b) => [b.id, b.from, b.to]))).toEqual([
    [[2, 0.75, 1]],
    [[1, 0.25, 0.5]],
  ]);
  expect(strip.hours).toHaveLength(12);
});

it("marks what is held or late", () => {
  const long = run(1, "a", "2026-11-24T03:00:00Z", "2026-11-24T04:00:00Z");
  const strip = layStrip(
    [
      { ...long, id: 1, held: "held", late: true },
      { ...long, id: 2, held: "released" },
      { ...long, id: 3, late: true },
    ],
    from,
    to,
  );
  expect(strip.lanes[0]!.bars.map((b) => [b.id, b.state, b.row])).toEqual([
    [1, "held", 0],
    [2, "finished", 2],
    [3, "late", 1],
  ]);
});

it("leaves out what has not begun or lies outside the window", () => {
  const strip = layStrip(
    [run(1, "a", null, null), run(2, "a", "2026-11-23T01:00:00Z", "2026-11-23T02:00:00Z")],
    from,
    to,
  );
  expect(strip.lanes).toEqual([]);
});

it("lets nothing cover what is worse, on nights made at random", () => {
  let seed = 11;
  const random = (n: number) => (seed = (seed * 48271) % 2147483647) % n;
  const states = ["finished", "finished", "finished", "failed", "running", "cancelled", "not_run"];
  for (let night = 0; night < 30; night += 1) {
    const runs = Array.from({ length: 60 }, (_, id) => {
      const began = from + random(43_000) * 1000;
      return {
        ...run(
          id,
          "ab"[random(2)]!,
          new Date(began).toISOString(),
          new Date(began + random(9_000) * 1000).toISOString(),
        ),
        state: states[random(states.length)]!,
      };
    });
    const { lanes } = layStrip(runs, from, to, 0.01);
    expect(lanes.flatMap((lane) => lane.bars)).toHaveLength(60);
    for (const { bars, rows } of lanes)
      for (const one of bars) {
        expect(one.row).toBeLessThan(Math.min(rows, 5));
        for (const other of bars)
          if (one.id < other.id && one.row === other.row && one.row < 4)
            expect(
              one.from >= Math.max(other.to, other.from + 0.01) || other.from >= Math.max(one.to, one.from + 0.01),
            ).toBe(true);
      }
    const rows = (test: (state: string) => boolean) =>
      lanes.flatMap((lane) => lane.bars.filter((b) => test(b.state)).map((b) => b.row));
    expect(Math.max(...rows((s) => rank(s) === 0))).toBeLessThanOrEqual(4);
  }
});
