import type { Diagnostic } from "../../api/client";

const marks = { error: "✕", warning: "!", note: "·" } as const;

/** What the service says of the text, errors first; each leads to its place. */
export function Diagnostics({
  diagnostics,
  onGo,
}: {
  diagnostics: Diagnostic[];
  onGo: (diagnostic: Diagnostic) => void;
}) {
  const worst = [...diagnostics].sort((a, b) => Number(b.severity === "error") - Number(a.severity === "error"));
  return (
    <ul className="diagnostics" aria-label="Diagnostics">
      {worst.map((r, n) => (
        <li key={n}>
          <button type="button" onClick={() => onGo(r)}>
            <span className={r.severity} aria-label={r.severity}>
              {marks[r.severity]}
            </span>
            <span className="dim">
              {r.line}:{r.column}
            </span>
            <span>
              <b>{r.message}</b> {r.hint}
            </span>
          </button>
        </li>
      ))}
    </ul>
  );
}
