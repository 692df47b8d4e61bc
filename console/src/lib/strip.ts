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
  lane: number;
  /** Shares of the strip's width, 0 to 1. */
  from: number;
  to: number;
  state: string;
  label: string;
}

export interface Strip {
  lanes: string[];
  bars: Bar[];
  /** Whole hours in the window: share of the width, and the hour of the local clock. */
  hours: { at: number; hour: number }[];
}

/** The first part of a folder's path stands for the lane; extracts at the top share one. */
export const laneOf = (folder: string): string => folder.split("/")[0] || "(top)";

export function layStrip(runs: StripRun[], from: number, to: number): Strip {
  const share = (t: number) => Math.min(Math.max((t - from) / (to - from), 0), 1);
  const seen = runs.filter((r) => r.started_at !== null && Date.parse(r.started_at) <= to && Date.parse(r.ended_at ?? r.started_at) >= from);
  const lanes = [...new Set(seen.map((r) => laneOf(r.folder)))].sort();
  const bars = seen.map((r) => ({
    id: r.id,
    lane: lanes.indexOf(laneOf(r.folder)),
    from: share(Date.parse(r.started_at!)),
    to: share(r.ended_at ? Date.parse(r.ended_at) : to),
    state: r.held === "held" ? "held" : r.late && r.state === "finished" ? "late" : r.state,
    label: r.extract,
  }));
  const hours = [];
  const first = new Date(from);
  first.setMinutes(60, 0, 0);
  for (let t = first.getTime(); t <= to; t += 3.6e6) hours.push({ at: share(t), hour: new Date(t).getHours() });
  return { lanes, bars, hours };
}
