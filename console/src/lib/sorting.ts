import type { TableColumnsType, TableProps } from "antd";

/** How a list is sorted: by a column, and whether the greatest comes first. */
export interface Sorting {
  by: string;
  descending: boolean;
}

/** As an address says it: "rows", or "-rows" for the greatest first; empty: as the list comes. */
export const sortingOf = (text: string): Sorting =>
  text.startsWith("-") ? { by: text.slice(1), descending: true } : { by: text, descending: false };

/** What a call is asked for it. */
export const askedFor = (text: string) => {
  const { by, descending } = sortingOf(text);
  return { sort: by || undefined, descending: descending || undefined };
};

/** The columns, with the arrow where the list is sorted by one. */
export function arrowed<Row>(columns: TableColumnsType<Row>, text: string): TableColumnsType<Row> {
  const { by, descending } = sortingOf(text);
  const order = descending ? "descend" : "ascend";
  return columns.map((c) => (c.sorter ? { ...c, sortOrder: c.key === by ? order : null } : c));
}

type Changed<Row> = Parameters<NonNullable<TableProps<Row>["onChange"]>>[2];

/** What a click on the head of a column asks for, as the address says it. */
export function sortedByClick<Row>(sorter: Changed<Row>): string {
  const one = Array.isArray(sorter) ? sorter[0] : sorter;
  return one?.order ? `${one.order === "descend" ? "-" : ""}${String(one.columnKey)}` : "";
}
