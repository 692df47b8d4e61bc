import { useQuery } from "@tanstack/react-query";
import { App, Button, Tabs } from "antd";
import { api, must, type RunBody } from "../../api/client";
import { Dialog } from "../../components/Dialog";
import { ProblemNote } from "../../components/ProblemNote";
import { FOR_AUTHORS, amount, count } from "../../lib/words";

function Copied({ text, label }: { text: string; label: string }) {
  const { message } = App.useApp();
  return (
    <>
      <pre
        className="mono said-statement"
        tabIndex={0}
        aria-label={label}
        style={{ whiteSpace: "pre-wrap", overflowWrap: "anywhere" }}
      >
        {text}
      </pre>
      <Button
        size="small"
        onClick={() => void navigator.clipboard.writeText(text).then(() => message.success("Copied."))}
      >
        Copy
      </Button>
    </>
  );
}

const shown = (value: unknown): string =>
  value === null
    ? "∅"
    : Array.isArray(value)
      ? value.join(", ")
      : typeof value === "string"
        ? value
        : JSON.stringify(value);

/** What a run would do: nothing is started, no source is asked. */
export function DryRunView({ body, onClose }: { body: RunBody; onClose: () => void }) {
  const query = useQuery({
    queryKey: ["dry-run", body],
    gcTime: 0,
    retry: false,
    queryFn: () => must(api.POST("/api/v1/dry-runs", { body })),
  });
  const found = query.data;
  const who =
    found &&
    Object.entries(found.reads).filter(([key]) => ["host", "port", "database", "user", "path", "folder"].includes(key));
  return (
    <Dialog
      what="This dry run"
      title={`What a run of ${body.extract} would do`}
      width={880}
      footer={<Button onClick={onClose}>Close</Button>}
      onCancel={onClose}
    >
      <ProblemNote error={query.error} />
      {found && (
        <>
          <dl className="facts">
            <dt>Revision</dt>
            <dd>{found.revision}</dd>
            <dt>Reads</dt>
            <dd>
              {found.source
                ? `${found.source} (${found.engine}) in ${found.environment}, read-only`
                : found.inputs.length
                  ? found.inputs.map((each) => (
                      <div key={each.name}>
                        <span className="mono">{each.name}</span>:{" "}
                        {each.lookup
                          ? `the lookup ${each.lookup}, revision ${each.revision}`
                          : `${each.extract}, revision ${each.revision}, on ${each.source || "its inputs"}`}
                        {Object.entries(each.values)
                          .filter(([name]) => name !== "data_date" && name !== "due_time")
                          .map(([name, value]) => `, ${name} = ${shown(value)}`)}
                      </div>
                    ))
                  : "nothing but its values"}
              {!!who?.length && (
                <>
                  : <span className="mono">{who.map(([key, value]) => `${key} ${value}`).join(", ")}</span>
                </>
              )}
            </dd>
            {found.steps.length > 0 && (
              <>
                <dt>Steps</dt>
                <dd>{found.steps.join("; ")}</dd>
              </>
            )}
            <dt>Data date</dt>
            <dd>{found.data_date}</dd>
            <dt>Estimate</dt>
            <dd>
              {found.expected
                ? `${amount(found.expected.rows, "row")} (${count(found.expected.rows_min)} to ${count(found.expected.rows_max)}) in ${found.expected.seconds} s, ${found.expected.runs === 1 ? "by the one run there was" : `by the median of ${found.expected.runs} runs`}${found.expected.same_values ? "" : ", with other values"}`
                : "unknown: it has not finished in this environment yet"}
            </dd>
            <dt>Limits</dt>
            <dd>
              {found.limits.seconds} s{found.limits.rows !== null && `, ${amount(found.limits.rows, "row")}`}
              {found.limits.bytes !== null && `, ${count(found.limits.bytes)} bytes`}
            </dd>
          </dl>
          {found.warnings.map((warning) => (
            <div className="flag" key={warning}>
              {warning}
            </div>
          ))}
          <h2>Files</h2>
          <ul style={{ margin: 0, paddingLeft: 18 }}>
            {found.files.map((file) => (
              <li key={file.name} className="mono" style={{ overflowWrap: "anywhere" }}>
                {file.delivered_path || file.name}
                {file.overwrites && <span className="said"> overwrites the existing file</span>}
              </li>
            ))}
          </ul>
          <Tabs
            items={[
              ...found.statements.map((each, n) => ({
                key: String(n),
                label: found.statements.length > 1 ? each.title : "Statement",
                children: (
                  <>
                    <p className="dim">
                      {Object.entries(each.bound)
                        .map(([name, value]) => `:${name} = ${shown(value)}`)
                        .join("; ") || "no values are bound"}
                    </p>
                    {each.filled_in ? (
                      <Copied text={each.filled_in} label="The statement with its values" />
                    ) : (
                      <p className="dim">{FOR_AUTHORS}</p>
                    )}
                  </>
                ),
              })),
              {
                key: "command",
                label: "Command",
                children: <Copied text={found.code.command} label="The command that runs it" />,
              },
              {
                key: "python",
                label: "Python",
                children: <Copied text={found.code.python} label="The Python that runs it" />,
              },
              ...(found.code.driver
                ? [
                    {
                      key: "driver",
                      label: "Python without the service",
                      children: (
                        <Copied text={found.code.driver} label="The Python that reads it with the driver alone" />
                      ),
                    },
                  ]
                : []),
            ]}
          />
        </>
      )}
    </Dialog>
  );
}
