import { useNavigate } from "react-router";
import { layStrip, type StripRun } from "../../lib/strip";
import { stateClass } from "../../components/StateMark";

const WIDTH = 1000;
const LANE = 20;
const TOP = 18;
const LEFT = 110;

/** The night's runs, a lane for each top folder. What needs attention stands below it in words. */
export function NightStrip({ runs, from, now }: { runs: StripRun[]; from: number; now: number }) {
  const go = useNavigate();
  const { lanes, bars, hours } = layStrip(runs, from, now);
  if (!bars.length) return null;
  const x = (share: number) => LEFT + share * (WIDTH - LEFT - 4);
  const height = TOP + lanes.length * LANE + 4;
  const y = (lane: number) => TOP + lane * LANE;
  return (
    <figure className="strip">
      <svg viewBox={`0 0 ${WIDTH} ${height}`} role="img" aria-label="Runs of the night, by folder">
        {hours.map(({ at, hour }) => (
          <g key={at}>
            <line x1={x(at)} x2={x(at)} y1={TOP} y2={height - 4} className="tick" />
            <text x={x(at)} y={11} textAnchor="middle" className="hour">{String(hour).padStart(2, "0")}</text>
          </g>
        ))}
        {lanes.map((lane, i) => (
          <g key={lane}>
            <line x1={LEFT} x2={WIDTH} y1={y(i + 1)} y2={y(i + 1)} className="lane" />
            <text x={0} y={y(i) + 14} className="lane-name">{lane.length > 18 ? `${lane.slice(0, 17)}…` : lane}</text>
          </g>
        ))}
        {bars.map((bar) => (
          <rect key={bar.id} className={`bar ${stateClass(bar.state)}`} x={x(bar.from)} y={y(bar.lane) + 5} width={Math.max(4, x(bar.to) - x(bar.from))} height={LANE - 10} rx={1} onClick={() => void go(`/runs/${bar.id}`)}>
            <title>{`${bar.label}, run ${bar.id}, ${bar.state}`}</title>
          </rect>
        ))}
        <line x1={x(1)} x2={x(1)} y1={TOP - 2} y2={height - 4} className="now" />
      </svg>
    </figure>
  );
}
