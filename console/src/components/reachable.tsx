import type { TableHTMLAttributes } from "react";

/** Parts of a table that is scrolled in a narrow window and may have nothing in it that the keyboard reaches. */
export const reachable = {
  table: (props: TableHTMLAttributes<HTMLTableElement>) => <table {...props} tabIndex={0} />,
};
