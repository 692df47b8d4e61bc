import "./bar-chart.css";
import { count } from "../lib/words";

export interface ChartBar {
  label: string;
  value: number;
}

/** Bars side by side over an axis, and the numbers as a table for whoever wants them or cannot see. `what`: of what they are. */
export function BarChart({
  bars,
  what,
  heads,
  gaps = false,
}: {
  bars: ChartBar[];
  what: string;
  heads: [string, string];
  /** What is nothing is to be seen. */
  gaps?: boolean;
}) {
  if (!bars.length) return null;
  const most = Math.max(1, ...bars.map((bar) => bar.value));
  const peak = bars.find((bar) => bar.value === most) ?? bars[0]!;
  const middle = bars[Math.floor((bars.length - 1) / 2)]!;
  const ends = bars.length > 2 ? [bars[0]!, middle, bars.at(-1)!] : bars.length > 1 ? [bars[0]!, bars.at(-1)!] : bars;
  return (
    <figure className="bar-chart" style={{ maxWidth: Math.min(860, 72 * bars.length) }}>
      <div className="bar-chart-most dim">{count(most)}</div>
      <div
        className="bar-chart-bars"
        role="img"
        aria-label={`${what}: ${count(bars.length)} bars, ${bars[0]!.label} to ${bars.at(-1)!.label}, most at ${peak.label} with ${count(most)}`}
      >
        {bars.map((bar) => (
          <i key={bar.label} title={`${bar.label}: ${count(bar.value)}`}>
            <b
              style={{ height: `${(100 * bar.value) / most}%` }}
              className={bar.value ? "" : gaps ? "none" : "nothing"}
            />
          </i>
        ))}
      </div>
      <div className="bar-chart-axis dim" aria-hidden="true">
        {ends.map((bar) => (
          <span key={bar.label}>{bar.label}</span>
        ))}
      </div>
      <details>
        <summary>As numbers</summary>
        <table className="bars" aria-label={what}>
          <thead>
            <tr>
              <th scope="col">{heads[0]}</th>
              <th scope="col">{heads[1]}</th>
            </tr>
          </thead>
          <tbody>
            {bars.map((bar) => (
              <tr key={bar.label}>
                <td className="mono">{bar.label}</td>
                <td className="n">{count(bar.value)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </figure>
  );
}
