import { Button } from "antd";
import { useState } from "react";
import { api, must, type PreviewBody } from "../../api/client";
import { Failed, ProblemNote } from "../../components/ProblemNote";
import type { GridColumn } from "../../lib/grid";
import { amount } from "../../lib/words";
import { FoundRows } from "../browse/FoundRows";
import { PlanOf } from "./PlanOf";
import { useStarted } from "../browse/useSourceQuery";
import type { Step } from "../steps/steps";

const begin = (body: PreviewBody) => must(api.POST("/api/v1/previews", { body }));

/** The first rows of one statement after its steps, and on request how many there are. `bodyOf` gives what is on the screen now. */
export function usePreview(bodyOf: () => PreviewBody, steps: Step[]) {
  const rows = useStarted(begin);
  const total = useStarted(begin);
  const plan = useStarted(begin);
  const [most, setMost] = useState(100);
  const [title, setTitle] = useState("");
  const [taken, setTaken] = useState<Step[]>();
  const body = (of: Step[]) => ({ ...bodyOf(), ...(of.length ? { steps: of } : {}) });
  /** `count`: so many of the steps; null: all. */
  const start = (name: string, count: number | null) => {
    const of = steps.slice(0, count ?? undefined);
    setTitle(name);
    setTaken(of);
    rows.ask({ ...body(of), rows: most });
  };
  return {
    ...{ rows, total, plan, most, setMost, title, start, taken },
    counted: () => total.ask({ ...body(taken ?? steps), total: true }),
    planned: () => plan.ask({ ...bodyOf(), plan: true }),
  };
}

export function Preview({
  preview,
  idle,
  label,
  onPlace,
  onStep,
}: {
  preview: ReturnType<typeof usePreview>;
  /** Nothing can be run now. */
  idle: boolean;
  label: string;
  /** A header offers to do something with its column. */
  onStep: (kind: string, column: GridColumn) => void;
  onPlace: (line: number, column: number) => void;
}) {
  const { rows, total, plan, title } = preview;
  const result = rows.found?.result;
  const counted = total.found?.result;
  const number = counted?.rows && !counted.rows.length ? "0" : counted?.rows?.[0]?.[0]; // a store counts nothing as no row
  const failed = rows.found?.error ?? total.found?.error ?? plan.found?.error;
  const who = result?.identity;
  const bound = Object.entries(rows.found?.values ?? {})
    .map(
      ([key, value]) =>
        `:${key} ${Array.isArray(value) ? value.join(", ") : typeof value === "string" ? value : JSON.stringify(value)}`,
    )
    .join("; ");
  return (
    <section aria-label="Preview">
      <div className="filters">
        {result?.rows && (
          <Button size="small" disabled={idle} loading={total.busy} onClick={preview.counted}>
            Count all rows
          </Button>
        )}
        {(rows.busy || total.busy || plan.busy) && (
          <Button
            size="small"
            danger
            onClick={() => {
              rows.cancel();
              total.cancel();
              plan.cancel();
            }}
          >
            Cancel
          </Button>
        )}
        <span aria-live="polite" className="dim">
          {rows.busy
            ? "Running query…"
            : result?.rows &&
              `${title ? `${title}: ` : ""}first row after ${result.first_seconds ?? 0} s, ${result.seconds ?? 0} s in all`}
          {typeof number === "string" && `, ${amount(Number(number), "row")} in all`}
          {bound && `, with ${bound}`}
          {who &&
            `, read as ${Object.entries(who)
              .map(([key, value]) => `${key} ${value}`)
              .join(", ")}, read-only`}
        </span>
      </div>
      <ProblemNote error={rows.error ?? total.error ?? plan.error} />
      {failed && <Failed error={failed} place={{ go: onPlace }} />}
      {plan.busy && <p className="dim">Asking for the plan…</p>}
      {plan.found?.result?.plan && <PlanOf plan={plan.found.result.plan} />}
      <FoundRows found={rows.found} counted={number} label={label} onStep={onStep} />
    </section>
  );
}
