/** Where runs stand on the night strip. Pure: times in, places out. */

export interface StripRun {
  id: number;
  folder: string;
  extract: string;
  state: string;
  held?: string;
  late?: boolean;
  started_at: string | null;
  ended_at: string | null;
}

export interface Bar {
  id: number;
  /** Shares of the strip's width, 0 to 1. */
  from: number;
  to: number;
  /** Its place below the top of its lane, from 0; the worst stand highest. */
  row: number;
  state: string;
  label: string;
  startedAt: string;
  endedAt: string | null;
}

export interface Lane {
  name: string;
  rows: number;
  /** By their beginning. */
  bars: Bar[];
}

export interface Strip {
  lanes: Lane[];
  /** Whole hours in the window: share of the width, and the hour of the local clock. */
  hours: { at: number; hour: number }[];
}

/** What is worse stands in front, and higher. */
const WORST_FIRST = ["failed", "not_run", "held", "late", "running", "cancelled", "finished"];
export const rank = (state: string): number => {
  const found = WORST_FIRST.indexOf(state);
  return found < 0 ? WORST_FIRST.length : found;
};

/** The first part of a folder's path stands for the lane; extracts at the top share one. */
export const laneOf = (folder: string): string => folder.split("/")[0] || "(top)";

/** What of a run a person should see first. */
export const shownState = (r: StripRun): string =>
  r.held === "held" ? "held" : r.late && r.state === "finished" ? "late" : r.state;

const MOST_ROWS = 5;

/** Each bar in the highest row where nothing lies in its way, the worst first; what finds none lies behind worse ones in the
 * last row. `least`: the share of the width that a bar has at least. */
function placed(bars: Omit<Bar, "row">[], least: number): Lane["bars"] {
  const rows: [number, number][][] = [];
  const order = [...bars].sort((a, b) => rank(a.state) - rank(b.state) || a.from - b.from || a.id - b.id);
  const found = order.map((bar) => {
    const [from, to] = [bar.from, Math.max(bar.to, bar.from + least)];
    let row = rows.findIndex((taken) => taken.every(([a, b]) => to <= a || from >= b));
    if (row < 0) row = Math.min(rows.length, MOST_ROWS - 1);
    (rows[row] ??= []).push([from, to]);
    return { ...bar, row };
  });
  return found.sort((a, b) => a.from - b.from || a.id - b.id);
}

export function layStrip(runs: StripRun[], from: number, to: number, least = 0.006): Strip {
  const share = (t: number) => Math.min(Math.max((t - from) / (to - from), 0), 1);
  const lanes = new Map<string, Omit<Bar, "row">[]>();
  for (const r of runs) {
    if (r.started_at === null || Date.parse(r.started_at) > to || Date.parse(r.ended_at ?? r.started_at) < from)
      continue;
    const name = laneOf(r.folder);
    if (!lanes.has(name)) lanes.set(name, []);
    lanes.get(name)!.push({
      id: r.id,
      from: share(Date.parse(r.started_at)),
      to: share(r.ended_at ? Date.parse(r.ended_at) : to),
      state: shownState(r),
      label: r.extract,
      startedAt: r.started_at,
      endedAt: r.ended_at,
    });
  }
  const hours = [];
  const first = new Date(from);
  first.setMinutes(60, 0, 0);
  for (let t = first.getTime(); t <= to; t += 3.6e6) hours.push({ at: share(t), hour: new Date(t).getHours() });
  return {
    lanes: [...lanes.keys()].sort().map((name) => {
      const bars = placed(lanes.get(name)!, least);
      return { name, bars, rows: Math.max(...bars.map((b) => b.row)) + 1 };
    }),
    hours,
  };
}
