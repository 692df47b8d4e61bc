import type { Line } from "../api/client";

const marks = { same: " ", removed: "−", added: "+" } as const;

/** Lines of two texts: removed ones, added ones, and the same ones around them. */
export function DifferenceView({ lines, label }: { lines: Line[]; label: string }) {
  if (lines.every((line) => line.kind === "same")) return <p className="dim">The text is the same.</p>;
  return (
    <div className="differences" role="region" aria-label={label} tabIndex={0}>
      <table>
        <tbody>
          {lines.map((line, n) => (
            <tr key={n} className={line.kind}>
              <td>{line.before ?? ""}</td>
              <td>{line.after ?? ""}</td>
              <td aria-label={line.kind}>{marks[line.kind]}</td>
              <td>{line.text}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
