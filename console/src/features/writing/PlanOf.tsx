import { Table } from "antd";
import type { Plan } from "../../api/client";
import { count } from "../../lib/words";

/** How the database means to carry a statement out, step by step in words. */
export function PlanOf({ plan }: { plan: Plan }) {
  const isLarge = (step: Plan["steps"][number]) =>
    step.whole && plan.warnings.some((warning) => warning.includes(` ${step.table} `));
  return (
    <section aria-label="Plan" className="card plan">
      {plan.warnings.map((warning) => (
        <p key={warning} className="mind" role="note">
          {warning}
        </p>
      ))}
      <Table
        size="small"
        pagination={false}
        rowKey={(step) => String(plan.steps.indexOf(step))}
        dataSource={plan.steps}
        locale={{ emptyText: "The database says nothing of how." }}
        columns={[
          {
            title: "Step, what is done first above",
            key: "said",
            render: (_, step) => (
              <div style={{ paddingLeft: 14 * step.depth }} className={isLarge(step) ? "whole" : undefined}>
                {step.said}
              </div>
            ),
          },
          {
            title: "Rows, about",
            key: "rows",
            width: 110,
            align: "right",
            render: (_, step) => (step.rows === null ? "" : count(step.rows)),
          },
          { title: "Its own word", dataIndex: "own", width: 190, className: "mono" },
        ]}
      />
      <p className="dim">
        {plan.cost !== null &&
          `Cost ${count(Math.round(plan.cost))}, in units of the database’s own: to compare two statements by. `}
        The statement was not run.
      </p>
      {plan.text && (
        <details>
          <summary>As the database tells it</summary>
          <pre className="mono said-statement" tabIndex={0}>
            {plan.text}
          </pre>
        </details>
      )}
    </section>
  );
}
