import { Button } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { useUndo } from "../../lib/useUndo";
import { amount } from "../../lib/words";
import { InputForm } from "./InputForm";
import { freeName, inputWords, type Input } from "./inputs";
import "../steps/steps.css";

/** What a combination combines, a line for each input; with the rows that the last preview loaded of it. */
export function InputsEditor({
  inputs,
  parameters,
  self,
  loaded,
  onChange,
}: {
  inputs: Input[];
  /** Names of the combination's own parameters. */
  parameters: string[];
  /** Its own name. */
  self: string;
  loaded: { name: string; rows: number }[] | undefined;
  onChange: (inputs: Input[]) => void;
}) {
  const [opened, setOpened] = useState<number | null>(null);
  const changes = useUndo(inputs, onChange);
  const put = (next: Input[], at: number | null = opened) => {
    changes.put(next);
    setOpened(at);
  };
  const own = [...parameters, "data_date", "due_time"];
  return (
    <div>
      <ol className="step-lines">
        {inputs.map((input, i) => {
          const rows = loaded?.find((each) => each.name === input.name)?.rows;
          return (
            <li key={i} className="step-line">
              <div className="step-head">
                <button
                  type="button"
                  className="plain step-words"
                  aria-expanded={opened === i}
                  onClick={() => setOpened(opened === i ? null : i)}
                >
                  <span className="mono">{input.name || "?"}</span>
                  <span className="dim">: {inputWords(input)}</span>
                </button>
                <span className="dim step-rows" role="group" aria-label={`Rows of input ${i + 1}`}>
                  {rows !== undefined && amount(rows, "row")}
                </span>
                {(input.extract || input.lookup) && (
                  <Link
                    className="in-text"
                    to={input.extract ? `/extracts/${input.extract}` : `/lookups/${input.lookup}`}
                  >
                    Open
                  </Link>
                )}
                <Button
                  size="small"
                  type="text"
                  aria-label={`Remove input ${i + 1}`}
                  onClick={() =>
                    put(
                      inputs.filter((_, at) => at !== i),
                      null,
                    )
                  }
                >
                  Remove
                </Button>
              </div>
              {opened === i && (
                <InputForm
                  input={input}
                  number={i + 1}
                  own={own}
                  others={inputs.filter((_, at) => at !== i).map((each) => each.name)}
                  self={self}
                  onChange={(next) => {
                    const taken = next.extract !== input.extract || next.lookup !== input.lookup;
                    const unnamed = taken && (!input.name || /^input(_\d+)?$/.test(input.name));
                    const name = unnamed
                      ? freeName(
                          inputs.filter((_, at) => at !== i),
                          next.extract ?? next.lookup ?? "",
                        )
                      : next.name;
                    put(inputs.map((each, at) => (at === i ? { ...next, name } : each)));
                  }}
                />
              )}
            </li>
          );
        })}
      </ol>
      <div className="filters">
        <Button
          size="small"
          onClick={() => put([...inputs, { name: freeName(inputs, "input"), extract: "" }], inputs.length)}
        >
          Add an input
        </Button>
        <Button
          size="small"
          disabled={!changes.undo}
          onClick={() => {
            changes.undo?.();
            setOpened(null);
          }}
        >
          Undo
        </Button>
        {!inputs.length && (
          <span className="dim">
            Each is a table for the statement, under its name: the result of another extract, or a lookup.
          </span>
        )}
      </div>
    </div>
  );
}
