import type { ReactNode } from "react";
import { count } from "../lib/words";

export interface BarLine {
  key: string;
  head: ReactNode;
  /** Null: nobody knows. */
  value: number | null;
}

/** A bar below the other, each with its name and its number. */
export function BarLines({ lines, label, caption }: { lines: BarLine[]; label: string; caption?: string }) {
  const most = Math.max(1, ...lines.map((line) => line.value ?? 0));
  return (
    <table className="bars" aria-label={label}>
      {caption && <caption>{caption}</caption>}
      <tbody>
        {lines.map(({ key, head, value }) => (
          <tr key={key}>
            <td className={typeof head === "string" ? "mono" : undefined}>{head}</td>
            <td className="n" style={{ textAlign: "right" }}>
              {value === null ? "" : count(value)}
            </td>
            <td>
              <div style={{ width: `${(100 * (value ?? 0)) / most}%` }} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
