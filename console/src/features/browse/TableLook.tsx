import { useState } from "react";
import { Tabs } from "antd";
import type { Filter } from "../../api/client";
import { useLanguage } from "../../api/useEngines";
import { ColumnsOf } from "./ColumnsOf";
import { CountsOf } from "./CountsOf";
import { Filters } from "./Filters";
import { ProfileOf } from "./ProfileOf";
import { RowsOf } from "./RowsOf";
import { useTable, type Place } from "./useTable";

const PERIODS = ["day", "month", "year"];

/** A table from several sides. The filters hold for all of them, and are always in sight. */
export function TableLook({
  about,
  saved,
  engine,
  ...place
}: Place & { about: number | null; saved: boolean; engine: string }) {
  const [filters, setFilters] = useState<Filter[]>([]);
  const [tab, setTab] = useState("rows");
  const columns = useTable(place);
  const language = useLanguage(engine);
  const names = columns.data?.columns.map((c) => c.name) ?? [];
  const outlines = language?.outlines;
  return (
    <>
      {tab !== "columns" && <Filters columns={names} filters={filters} onChange={setFilters} />}
      <Tabs
        activeKey={tab}
        onChange={setTab}
        items={[
          { key: "rows", label: "Rows", children: <RowsOf {...place} about={about} saved={saved} filters={filters} /> },
          { key: "columns", label: "Columns and keys", children: <ColumnsOf {...place} /> },
          {
            key: "counts",
            label: "Counts",
            children: <CountsOf {...place} filters={filters} periods={outlines?.buckets ?? PERIODS} />,
          },
          ...(outlines
            ? [{ key: "profile", label: "Profile", children: <ProfileOf {...place} filters={filters} /> }]
            : []),
        ]}
      />
    </>
  );
}
