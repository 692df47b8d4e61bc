import { Table, type TableProps } from "antd";
import type { ReactNode } from "react";

interface Props<Row> extends Pick<TableProps<Row>, "columns" | "components" | "expandable" | "style"> {
  /** Nothing: not known yet. */
  rows: readonly Row[] | undefined;
  rowKey?: keyof Row & string;
  /** Pixels below which it scrolls by itself. */
  width?: number;
  /** What is said, and can be done, where there are none. */
  empty?: ReactNode;
}

/** What is set up, or was recorded: all its rows, and words where there are none, once that is known. */
export function RecordTable<Row extends object>({ rows, rowKey, width, empty, ...rest }: Props<Row>) {
  const blank = <div style={{ minHeight: 48 }} />;
  return (
    <Table<Row>
      size="small"
      rowKey={rowKey ?? "name"}
      dataSource={rows ?? []}
      pagination={false}
      {...(rows?.length && width ? { scroll: { x: width } } : {})}
      locale={{ emptyText: rows ? <div className="hollow">{empty}</div> : blank }}
      {...rest}
    />
  );
}
