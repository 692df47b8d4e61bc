import { useState } from "react";
import { Button, Select } from "antd";
import { Failed, ProblemNote } from "../../components/ProblemNote";
import { count } from "../../lib/words";
import { Said } from "./Said";
import { useSourceQuery } from "./useSourceQuery";
import { useTable, type Place } from "./useTable";

type Period = "" | "day" | "month" | "year";
const dated = new Set(["date", "timestamp", "zoned", "text"]);

/** How many rows by the values of a column, or by the day, month or year of a date. */
export function CountsOf(place: Place) {
  const { source, environment, table } = place;
  const [column, setColumn] = useState<string | undefined>(undefined);
  const [period, setPeriod] = useState<Period>("");
  const columns = useTable(place);
  const counts = useSourceQuery(source);
  const chosen = columns.data?.columns.find((c) => c.name === column);
  const rows = (counts.found?.result?.rows ?? []) as (string | null)[][];
  const most = Math.max(1, ...rows.map((row) => Number(row[1])));
  const failed = counts.found?.error;
  return (
    <>
      <div className="filters">
        <Select
          size="small"
          showSearch
          aria-label="Count by"
          placeholder="Count by a column"
          style={{ width: 190 }}
          value={column}
          onChange={(v: string) => {
            setColumn(v);
            setPeriod("");
          }}
          options={(columns.data?.columns ?? []).map((c) => ({ value: c.name, label: c.name }))}
        />
        {chosen && dated.has(chosen.kind) && (
          <Select<Period>
            size="small"
            aria-label="Period"
            style={{ width: 120 }}
            value={period}
            onChange={setPeriod}
            options={[
              { value: "", label: "each value" },
              { value: "day", label: "by day" },
              { value: "month", label: "by month" },
              { value: "year", label: "by year" },
            ]}
          />
        )}
        <Button
          size="small"
          disabled={!column}
          loading={counts.busy}
          onClick={() =>
            counts.ask({
              environment,
              kind: "counts",
              table,
              column: column!,
              rows: 200,
              ...(period ? { period } : {}),
            })
          }
        >
          Count
        </Button>
        {counts.busy && (
          <Button size="small" danger onClick={counts.cancel}>
            Cancel
          </Button>
        )}
      </div>
      <ProblemNote error={counts.error ?? columns.error} />
      {failed && <Failed error={failed} />}
      {!column && (
        <div className="hollow">
          <p>Choose a column to see how many rows have each value.</p>
        </div>
      )}
      {counts.found && rows.length > 0 && (
        <>
          <table className="bars" aria-label={`Rows by ${column}`}>
            <tbody>
              {rows.slice(0, 60).map((row) => (
                <tr key={String(row[0])}>
                  <td className="mono">{row[0] === null ? <i className="dim">null</i> : row[0] || '""'}</td>
                  <td className="n" style={{ textAlign: "right" }}>
                    {count(Number(row[1]))}
                  </td>
                  <td>
                    <div style={{ width: `${(100 * Number(row[1])) / most}%` }} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {rows.length > 60 && (
            <p className="dim">
              {count(rows.length)}
              {counts.found.result?.complete ? "" : " or more"} values; the first 60 are drawn.
            </p>
          )}
          <Said found={counts.found} name={`${table}_by_${column}`} />
        </>
      )}
    </>
  );
}
