import { amount, count, sentence } from "../../lib/words";
import { remarksAt, type Remark } from "./outline";

/** What is to be said of parts: remarks, and how many rows there are after them where that was asked for. */
export interface Said {
  remarks: Remark[];
  rows: Record<string, { rows?: number; times?: number }>;
}

/** At a part: its remarks, and the rows after it. `exact`: not of what is in it. */
export function Remarks({ said, path, exact = false }: { said: Said; path: string; exact?: boolean }) {
  const found = exact ? said.remarks.filter((each) => each.where === path) : remarksAt(said.remarks, path);
  const after = said.rows[path];
  return (
    <>
      {after?.rows !== undefined && (
        <span className="outline-rows">
          {amount(after.rows, "row")}
          {after.times !== undefined && `, each row before meets up to ${count(after.times)}`}
        </span>
      )}
      {found.map((each, n) => (
        <span
          key={n}
          className={`outline-remark ${each.severity}`}
          role={each.severity === "error" ? "alert" : undefined}
        >
          {sentence(each.message)} {each.hint}
        </span>
      ))}
    </>
  );
}
