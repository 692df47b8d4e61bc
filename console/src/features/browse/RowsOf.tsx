import { useEffect, useState } from "react";
import { Button, Select } from "antd";
import type { Filter } from "../../api/client";
import { Failed, ProblemNote } from "../../components/ProblemNote";
import { amount, count } from "../../lib/words";
import { FoundRows } from "./FoundRows";
import { SaveLook } from "./SaveLook";
import { RunUnsaved } from "../runs/RunUnsaved";
import { useSourceQuery } from "./useSourceQuery";
import { useTable, type Place } from "./useTable";

/** The first rows of a table, filtered and sorted in the source; the exact count on request. `saved`: nothing else is run on it. */
export function RowsOf({
  about,
  saved,
  filters,
  ...place
}: Place & { about: number | null; saved: boolean; filters: Filter[] }) {
  const { source, environment, table } = place;
  const [shown, setShown] = useState<string[] | undefined>(undefined);
  const [sort, setSort] = useState("");
  const [descending, setDescending] = useState(false);
  const columns = useTable(place);
  const rows = useSourceQuery(source);
  const total = useSourceQuery(source);
  const { ask } = rows;
  const names = columns.data?.columns.map((c) => c.name) ?? [];
  useEffect(() => {
    ask({ environment, kind: "rows", table, filters, sort, descending, rows: 200 });
  }, [ask, environment, table, filters, sort, descending]);
  const result = rows.found?.result;
  const counted = total.found?.result?.rows?.[0]?.[0];
  const failed = rows.found?.error ?? total.found?.error;
  return (
    <>
      <div className="filters">
        <Select
          size="small"
          allowClear
          showSearch
          aria-label="Sort by"
          placeholder="Sort in the source"
          style={{ width: 170 }}
          value={sort || undefined}
          onChange={(v?: string) => setSort(v ?? "")}
          options={names.map((n) => ({ value: n, label: n }))}
        />
        {sort && (
          <Button size="small" onClick={() => setDescending(!descending)}>
            {descending ? "descending" : "ascending"}
          </Button>
        )}
        <Button
          size="small"
          loading={total.busy}
          onClick={() => total.ask({ environment, kind: "count", table, filters })}
        >
          Count exactly
        </Button>
        {!saved && (
          <RunUnsaved
            label="All as a file"
            body={(formats) => ({ source, environment, table, filters, sort, descending, formats })}
          />
        )}
        <span aria-live="polite">
          {typeof counted === "string"
            ? `${amount(Number(counted), "row")}${total.found?.active_filters.length ? ` where ${total.found.active_filters.join(" and ")}` : ""}`
            : about !== null && <span className="dim">about {count(about)} rows</span>}
        </span>
        {(rows.busy || total.busy) && (
          <Button
            size="small"
            danger
            onClick={() => {
              rows.cancel();
              total.cancel();
            }}
          >
            Cancel
          </Button>
        )}
      </div>
      <ProblemNote error={rows.error ?? total.error ?? columns.error} />
      {failed && <Failed error={failed} />}
      {rows.busy && (
        <p className="dim" aria-live="polite">
          Running query…
        </p>
      )}
      <FoundRows found={rows.found} counted={counted} label={table} onShown={setShown} />
      {rows.found && result?.rows && result.columns && (
        <SaveLook found={rows.found} name={table} place={place} look={{ filters, sort, descending, columns: shown }} />
      )}
    </>
  );
}
