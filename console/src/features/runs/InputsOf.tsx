import { Link } from "react-router";
import type { RunRecord } from "../../api/client";
import { StateMark } from "../../components/StateMark";
import { count } from "../../lib/words";

type Given = RunRecord["inputs"][number];

const what = (given: Given) =>
  given.lookup ? (
    <>
      the lookup{" "}
      <Link className="in-text" to={`/lookups/${given.lookup}`}>
        {given.lookup}
      </Link>
    </>
  ) : (
    <>
      <Link className="in-text" to={`/extracts/${given.extract}`}>
        {given.extract}
      </Link>
      {given.statement > 1 && `, statement ${given.statement}`}
    </>
  );

/** Where each input of a combination's run stands: a run of its own, a stored result, or a lookup. */
export function InputsOf({ run }: { run: RunRecord }) {
  return (
    <>
      <h2>Inputs</h2>
      <div className="card">
        <table className="files" aria-label="Inputs">
          <thead>
            <tr>
              <th>Input</th>
              <th>What it is</th>
              <th>Source</th>
              <th>Run</th>
              <th className="n">Rows</th>
            </tr>
          </thead>
          <tbody>
            {run.inputs.map((given) => (
              <tr key={given.name}>
                <td className="mono">{given.name}</td>
                <td>{what(given)}</td>
                <td>{given.source}</td>
                <td>
                  {given.run === null ? (
                    <span className="dim">{given.lookup ? "" : "not begun"}</span>
                  ) : (
                    <>
                      <Link className="in-text" to={`/runs/${given.run}`}>
                        run {given.run}
                      </Link>{" "}
                      {given.held === "held" || given.held === "rejected" ? (
                        given.held
                      ) : (
                        <StateMark state={given.state as RunRecord["state"]} />
                      )}
                      {given.stored && <span className="dim"> stored before</span>}
                    </>
                  )}
                </td>
                <td className="n">{given.rows === null ? "" : count(given.rows)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}
