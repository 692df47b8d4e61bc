import type { SourceQuery } from "../../api/client";
import type { Cell, GridColumn } from "../../lib/grid";
import { ResultGrid } from "./ResultGrid";

/** The rows that a query brought, and what is to be known of them. `counted`: how many there are in all, where that was asked. */
export function FoundRows({
  found,
  counted,
  label,
  onShown,
  onStep,
}: {
  found: SourceQuery | undefined;
  counted: unknown;
  label: string;
  onShown?: (columns: string[] | undefined) => void;
  onStep?: (kind: string, column: GridColumn) => void;
}) {
  const result = found?.result;
  if (!found || !result?.rows || !result.columns) return null;
  return (
    <>
      <ResultGrid
        key={found.id}
        id={found.id}
        columns={result.columns}
        rows={result.rows as Cell[][]}
        complete={result.complete ?? false}
        total={typeof counted === "string" ? Number(counted) : undefined}
        label={label}
        {...(onShown ? { onShown } : {})}
        {...(onStep ? { onStep } : {})}
      />
      {result.notes?.map((note) => (
        <div className="flag" style={{ margin: "4px 0" }} key={note}>
          {note}
        </div>
      ))}
    </>
  );
}
