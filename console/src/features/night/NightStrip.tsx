import { useMemo, useRef, useState } from "react";
import { Button } from "antd";
import { Link } from "react-router";
import { stateClass } from "../../components/StateMark";
import { layStrip, rank, type StripRun } from "../../lib/strip";
import { clock, spaced } from "../../lib/words";

const ROW = 13;
const SHORTEST = 10 * 60_000;
const percent = (share: number) => `${(share * 100).toFixed(3)}%`;

/** The night's runs, a lane for each top folder, the worst in front; each is a link. Arrow keys go from run to run; the
 * window is narrowed and moved to where they crowd. */
export function NightStrip({ runs, from, until }: { runs: StripRun[]; from: number; until: number }) {
  const [seen, setSeen] = useState<[number, number] | null>(null);
  const [begin, end] = seen ?? [from, until];
  const box = useRef<HTMLDivElement>(null);
  const { lanes, hours } = useMemo(() => layStrip(runs, begin, end), [runs, begin, end]);
  if (!lanes.length && !seen) return null;
  const span = end - begin;
  const show = (first: number, long: number) => {
    const width = Math.min(Math.max(long, SHORTEST), until - from);
    const at = Math.min(Math.max(first, from), until - width);
    setSeen(width >= until - from ? null : [at, at + width]);
  };
  const step = (event: React.KeyboardEvent) => {
    const by = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[event.key];
    if (!by) return;
    const all = [...(box.current?.querySelectorAll<HTMLElement>("a.bar") ?? [])];
    const next = all[all.indexOf(event.target as HTMLElement) + by];
    if (!next) return;
    event.preventDefault();
    next.focus();
  };
  const first = lanes[0]?.bars[0]?.id;
  return (
    <figure className="strip">
      <div
        ref={box}
        role="group"
        aria-label="Runs of the night, by folder; arrow keys go from one to the next"
        onKeyDown={step}
      >
        <div className="strip-hours" aria-hidden="true">
          {hours.map(({ at, hour }) => (
            <span key={at} style={{ left: percent(at) }}>
              {String(hour).padStart(2, "0")}
            </span>
          ))}
        </div>
        {lanes.map((lane) => (
          <div key={lane.name} className="strip-lane">
            <span className="lane-name" title={lane.name}>
              {lane.name}
            </span>
            <div className="lane-track" style={{ height: lane.rows * ROW + 7 }}>
              {lane.bars.map((bar) => {
                const words = `${bar.label}, run ${bar.id}, ${spaced(bar.state)}, ${clock(bar.startedAt)}${bar.endedAt ? ` to ${clock(bar.endedAt)}` : ""}`;
                return (
                  <Link
                    key={bar.id}
                    to={`/runs/${bar.id}`}
                    className={`bar ${stateClass(bar.state)}`}
                    aria-label={words}
                    title={words}
                    tabIndex={bar.id === first ? 0 : -1}
                    style={{
                      left: `min(${percent(bar.from)}, 100% - 8px)`, // its least width stays inside
                      width: percent(bar.to - bar.from),
                      top: bar.row * ROW + 4,
                      zIndex: 10 - rank(bar.state),
                    }}
                  />
                );
              })}
            </div>
          </div>
        ))}
      </div>
      <figcaption className="strip-tools">
        <Button size="small" disabled={span <= SHORTEST} onClick={() => show(end - span / 2, span / 2)}>
          Zoom in
        </Button>
        {seen && (
          <>
            <Button size="small" onClick={() => show(begin - span / 2, span * 2)}>
              Zoom out
            </Button>
            <Button size="small" disabled={begin <= from} onClick={() => show(begin - span / 2, span)}>
              Earlier
            </Button>
            <Button size="small" disabled={end >= until} onClick={() => show(begin + span / 2, span)}>
              Later
            </Button>
            <span className="dim" aria-live="polite">
              {clock(new Date(begin).toISOString())} to {clock(new Date(end).toISOString())}
            </span>
          </>
        )}
      </figcaption>
    </figure>
  );
}
