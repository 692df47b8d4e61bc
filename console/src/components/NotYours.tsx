import type { ReactNode } from "react";

/** Instead of a page that one's role does not show: what it is, and who may. */
export const NotYours = ({ title, children }: { title: string; children: ReactNode }) => (
  <div className="page">
    <h1>{title}</h1>
    <p>{children}</p>
  </div>
);
