import { Button, Select, Switch } from "antd";
import type { CheckedSteps } from "../../api/client";
import { useUndo } from "../../lib/useUndo";
import { count } from "../../lib/words";
import { StepForm } from "./StepForm";
import { blank, countsOf, GROUPS, KINDS, moved, turned, type Counted, type Step, type StepColumn } from "./steps";
import "./steps.css";

export interface Chain {
  steps: Step[];
  /** What the service says of them; undefined: it has not said yet. */
  checked: CheckedSteps | undefined;
  /** Of the statement's result, where they are known. */
  columns: StepColumn[];
  /** Which steps the last preview took, and what it counted. */
  asked: Step[] | undefined;
  counted: Counted[] | undefined;
  /** Of a combination: names of its inputs. */
  inputs: string[];
}

/** What is done to a result, a line for each step; with the number of rows after it once a preview has counted them. */
export function StepsEditor({
  chain,
  opened,
  onOpen,
  onChange,
  onLook,
}: {
  chain: Chain;
  opened: number | null;
  onOpen: (place: number | null) => void;
  onChange: (steps: Step[]) => void;
  /** Show the rows after so many steps. */
  onLook: (steps: number) => void;
}) {
  const { steps, checked } = chain;
  const changes = useUndo(steps, onChange);
  const counts = countsOf(steps, chain.asked, chain.counted);
  const wrong = /^steps\[(\d+)\]/.exec(checked?.error?.where ?? "");
  const put = (next: Step[], at: number | null = opened) => {
    changes.put(next);
    onOpen(at);
  };
  const columnsBefore = (place: number): StepColumn[] => {
    for (let i = place - 1; i >= 0; i--) {
      const found = checked?.steps[i]?.columns;
      if (found) return found;
    }
    return chain.columns;
  };
  const sentence = (step: Step, place: number) => {
    const said = checked?.steps[place];
    return said?.step === step.step ? said.words : (KINDS[step.step]?.title ?? step.step);
  };
  return (
    <div>
      {chain.columns.length > 0 && (
        <p className="dim step-start">
          The statement gives {chain.columns.map((each) => each.name).join(", ")}
          {counts[0] && `: ${count(counts[0].rows_in)} rows`}
        </p>
      )}
      <ol className="step-lines">
        {steps.map((step, i) => (
          <li key={i} className={step.off ? "step-line is-off" : "step-line"}>
            <div className="step-head">
              <span className="dim step-number">{i + 1}</span>
              <button
                type="button"
                className="plain step-words"
                aria-expanded={opened === i}
                onClick={() => onOpen(opened === i ? null : i)}
              >
                {sentence(step, i)}
                {step.name && <span className="dim"> ({step.name})</span>}
              </button>
              <span className="dim step-rows" role="group" aria-label={`Rows after step ${i + 1}`}>
                {counts[i] && `${count(counts[i].rows_in)} → ${count(counts[i].rows_out)} rows`}
                {!!counts[i]?.unmatched && `, ${count(counts[i].unmatched ?? 0)} without a match`}
              </span>
              <Button
                size="small"
                type="text"
                aria-label={`Show the rows after step ${i + 1}`}
                onClick={() => onLook(i + 1)}
              >
                Rows
              </Button>
              <Switch
                size="small"
                aria-label={`Step ${i + 1} is on`}
                checked={!step.off}
                onChange={(on) => put(steps.map((each, at) => (at === i ? turned(each, on) : each)))}
              />
              <Button
                size="small"
                type="text"
                aria-label={`Move step ${i + 1} up`}
                disabled={i === 0}
                onClick={() => put(moved(steps, i, i - 1), opened === i ? i - 1 : null)}
              >
                ↑
              </Button>
              <Button
                size="small"
                type="text"
                aria-label={`Move step ${i + 1} down`}
                disabled={i === steps.length - 1}
                onClick={() => put(moved(steps, i, i + 1), opened === i ? i + 1 : null)}
              >
                ↓
              </Button>
              <Button
                size="small"
                type="text"
                aria-label={`Remove step ${i + 1}`}
                onClick={() =>
                  put(
                    steps.filter((_, at) => at !== i),
                    null,
                  )
                }
              >
                Remove
              </Button>
            </div>
            {opened === i && (
              <StepForm
                step={step}
                number={i + 1}
                columns={columnsBefore(i)}
                inputs={chain.inputs}
                onChange={(next) => put(steps.map((each, at) => (at === i ? next : each)))}
              />
            )}
            {wrong && Number(wrong[1]) === i && (
              <div className="flag" role="alert">
                {checked!.error!.message} {checked!.error!.hint}
              </div>
            )}
          </li>
        ))}
      </ol>
      {checked?.error && !wrong && (
        <div className="flag" role="alert">
          {checked.error.message} {checked.error.hint}
        </div>
      )}
      <div className="filters">
        <Select<string | null>
          size="small"
          showSearch={{ optionFilterProp: "label" }}
          aria-label="Add a step"
          placeholder="Add a step…"
          value={null}
          options={GROUPS.map((group) => ({
            label: group,
            options: Object.entries(KINDS)
              .filter(([, kind]) => kind.group === group)
              .map(([value, kind]) => ({ value, label: kind.title })),
          }))}
          onChange={(kind) => kind && put([...steps, blank(kind)], steps.length)}
          style={{ width: 240 }}
        />
        <Button
          size="small"
          disabled={!changes.undo}
          onClick={() => {
            changes.undo?.();
            onOpen(null);
          }}
        >
          Undo
        </Button>
        {steps.length > 0 && (
          <Button size="small" onClick={() => onLook(0)}>
            Rows before all steps
          </Button>
        )}
        {!steps.length && <span className="dim">Or choose one in the header of a column of the preview.</span>}
      </div>
    </div>
  );
}
