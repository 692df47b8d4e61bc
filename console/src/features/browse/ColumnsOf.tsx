import { Link } from "react-router";
import { Table } from "antd";
import { ProblemNote } from "../../components/ProblemNote";
import { useTable, type Place } from "./useTable";

const to = (place: Place, table: string) =>
  `/sources/${place.source}?environment=${place.environment}&table=${encodeURIComponent(table)}`;
const full = (schema: string, table: string) => (schema ? `${schema}.${table}` : table);

/** Columns with types and comments; keys both ways; indexes. */
export function ColumnsOf(place: Place) {
  const query = useTable(place);
  const found = query.data;
  if (!found) return <ProblemNote error={query.error} />;
  return (
    <>
      {found.comment && <p style={{ margin: "0 0 8px" }}>{found.comment}</p>}
      <Table
        size="small"
        rowKey="name"
        pagination={false}
        dataSource={found.columns}
        columns={[
          {
            title: "Column",
            key: "name",
            width: 190,
            render: (_, c) => (
              <>
                <span className="mono">{c.name}</span>
                {found.primary_key.includes(c.name) && <span className="flag">key</span>}
              </>
            ),
          },
          { title: "Type", dataIndex: "type", width: 190, className: "mono" },
          { title: "Nullable", key: "nullable", width: 110, render: (_, c) => (c.nullable ? "yes" : "no") },
          ...(found.columns.some((c) => c.default)
            ? [{ title: "Default", dataIndex: "default", width: 150, ellipsis: true, className: "mono" }]
            : []),
          { title: "Comment", dataIndex: "comment" },
        ]}
      />
      <dl className="facts" style={{ marginTop: 12 }}>
        {found.unique_keys.map((key) => (
          <div key={key.join()} style={{ display: "contents" }}>
            <dt>unique</dt>
            <dd className="mono">{key.join(", ")}</dd>
          </div>
        ))}
        {found.foreign_keys.map((key) => (
          <div key={key.columns.join() + key.table} style={{ display: "contents" }}>
            <dt>references</dt>
            <dd className="mono">
              {key.columns.join(", ")} →{" "}
              <Link to={to(place, full(key.schema, key.table))}>{full(key.schema, key.table)}</Link> (
              {key.to_columns.join(", ")})
            </dd>
          </div>
        ))}
        {found.referenced_by.map((key) => (
          <div key={key.table + key.columns.join()} style={{ display: "contents" }}>
            <dt>referenced by</dt>
            <dd className="mono">
              <Link to={to(place, full(key.schema, key.table))}>{full(key.schema, key.table)}</Link> (
              {key.columns.join(", ")})
            </dd>
          </div>
        ))}
        {found.indexes.map((index) => (
          <div key={index} style={{ display: "contents" }}>
            <dt>index</dt>
            <dd className="mono">{index}</dd>
          </div>
        ))}
      </dl>
    </>
  );
}
