import { useState } from "react";
import { Button, Select } from "antd";
import { Failed, ProblemNote } from "../../components/ProblemNote";
import { amount, count } from "../../lib/words";
import { BarLines } from "../../components/BarLines";
import { BarChart } from "../../components/BarChart";
import type { Filter } from "../../api/client";
import { SaveLook } from "./SaveLook";
import { useSourceQuery } from "./useSourceQuery";
import { useTable, type Place } from "./useTable";

type Period = "" | "day" | "week" | "month" | "quarter" | "year";
const HEADS = { "": "Value", day: "Day", week: "Week from", month: "Month", quarter: "Quarter from", year: "Year" };
const MOST_DRAWN = 400;
const MOST_LINES = 60;
const dated = new Set(["date", "timestamp", "zoned", "text"]);

/** How many rows by the values of a column, or by the period of a date, those without rows among them; `periods`: that the
 * source can tell. */
export function CountsOf({ filters, periods, ...place }: Place & { filters: Filter[]; periods: readonly string[] }) {
  const { source, environment, table } = place;
  const [column, setColumn] = useState<string | undefined>(undefined);
  const [period, setPeriod] = useState<Period>("");
  const columns = useTable(place);
  const counts = useSourceQuery(source);
  const chosen = columns.data?.columns.find((c) => c.name === column);
  const rows = (counts.found?.result?.rows ?? []) as (string | null)[][];
  const by = (counts.found?.result?.columns?.[0]?.name ?? "value") as Period | "value";
  const none = rows.find((row) => row[0] === null);
  const failed = counts.found?.error;
  return (
    <>
      <div className="filters">
        <Select
          size="small"
          showSearch={{ optionFilterProp: "label" }}
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
            showSearch={{ optionFilterProp: "label" }}
            aria-label="Period"
            style={{ width: 120 }}
            value={period}
            onChange={setPeriod}
            options={[
              { value: "", label: "each value" },
              ...periods.map((each) => ({ value: each as Period, label: `by ${each}` })),
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
              filters,
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
          {by !== "value" ? (
            <>
              <BarChart
                bars={rows
                  .filter((row) => row[0] !== null)
                  .slice(0, MOST_DRAWN)
                  .map((row) => ({
                    label: by === "month" ? row[0]!.slice(0, 7) : by === "year" ? row[0]!.slice(0, 4) : row[0]!,
                    value: Number(row[1]),
                  }))}
                what={`Rows by ${by} of ${column}`}
                heads={[HEADS[by], "Rows"]}
                gaps
              />
              {none && <p>{amount(Number(none[1]), "row")} without a value.</p>}
              {counts.found.result?.notes?.map((note) => (
                <p className="flag" key={note}>
                  {note}
                </p>
              ))}
              {(rows.length > MOST_DRAWN || !counts.found.result?.complete) && (
                <p className="dim">
                  There are {counts.found.result?.complete ? count(rows.length) : "more"} {by}s; the first{" "}
                  {count(Math.min(rows.length, MOST_DRAWN))} are drawn. Count by a longer period.
                </p>
              )}
            </>
          ) : (
            <>
              <BarLines
                label={`Rows by ${column}`}
                lines={rows.slice(0, MOST_LINES).map((row) => ({
                  key: String(row[0]),
                  head: row[0] === null ? <i className="dim">null</i> : row[0] || '""',
                  value: Number(row[1]),
                }))}
              />
              {rows.length > MOST_LINES && (
                <p className="dim">
                  {count(rows.length)}
                  {counts.found.result?.complete ? "" : " or more"} values; the first {MOST_LINES} are drawn.
                </p>
              )}
            </>
          )}
          <SaveLook found={counts.found} name={`${table}_by_${column}`} place={place} />
        </>
      )}
    </>
  );
}
