import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Space } from "antd";
import DownOutlined from "@ant-design/icons/DownOutlined";
import DownloadOutlined from "@ant-design/icons/DownloadOutlined";
import { Menu } from "../../components/Menu";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, must, type RunRecord } from "../../api/client";
import { Failed, ProblemNote } from "../../components/ProblemNote";
import { RunMark } from "../../components/RunMark";
import { live } from "../../components/StateMark";
import { StatementView } from "../../components/StatementView";
import { amount, count, moment, publishedWords, size, took } from "../../lib/words";
import { useMe } from "../session/useMe";
import { fileAddress, FilePreview, sheetsOf, type Looked } from "../results/FilePreview";
import { Decision } from "./Decision";
import { InputsOf } from "./InputsOf";
import { RunLog } from "./RunLog";
import { DeliveryChoice } from "./DeliveryChoice";
import { delivering } from "./RunsTable";
import "./runs.css";

function Stages({ run }: { run: RunRecord }) {
  return (
    <ol className="stages" aria-label="Stages">
      {run.stages.map(({ stage, at }, i) => {
        const next = run.stages[i + 1]?.at ?? run.ended_at;
        return (
          <li key={stage} className={next ? "" : "now"}>
            {stage} <small>{took(at, next ?? null)}</small>
          </li>
        );
      })}
    </ol>
  );
}

function Files({ run }: { run: RunRecord }) {
  const [looked, setLooked] = useState<Looked | null>(null);
  const { may } = useMe();
  const shut = (run.held === "held" || run.held === "rejected") && !may("author");
  if (!run.files.length)
    return (
      <p className="dim">{live(run.state) ? "Files appear here once they are proven." : "This run left no files."}</p>
    );
  return (
    <>
      <table className="files">
        <thead>
          <tr>
            <th>File</th>
            <th className="n">Rows</th>
            <th className="n">Size</th>
            <th>SHA-256</th>
            <th>Delivered as</th>
            <th>Preview</th>
          </tr>
        </thead>
        <tbody>
          {run.files.map((file) => (
            <tr key={file.name}>
              <td>
                {file.removed_at ? (
                  <>
                    {file.name} <small>removed {moment(file.removed_at)}</small>
                  </>
                ) : shut || file.damage ? (
                  file.name
                ) : (
                  <a href={fileAddress(run.id, file.name)} download={file.name}>
                    <DownloadOutlined aria-hidden /> {file.name}
                  </a>
                )}
                {file.damage && <div className="said wrong">Damaged in the result store: {file.damage}.</div>}
              </td>
              <td className="n">{count(file.rows)}</td>
              <td className="n">{size(file.bytes)}</td>
              <td className="mono" title={file.sha256}>
                {file.sha256.slice(0, 12)}…
              </td>
              <td>
                {file.delivered_path ? (
                  [file.delivered_path, ...file.delivered_also].map((path) => <div key={path}>{path}</div>)
                ) : (
                  <span className="dim">not delivered, kept in the result store</span>
                )}
              </td>
              <td>
                <Button
                  size="small"
                  type="text"
                  disabled={shut || !!file.damage}
                  aria-label={`Preview ${file.name}`}
                  onClick={() =>
                    setLooked({ run: run.id, name: file.name, sheets: sheetsOf(file.sheets, file.format) })
                  }
                >
                  Preview
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p>
        {shut ? (
          <span className="dim">
            These files are {run.held === "held" ? "held back by a guard until an author releases them" : "rejected"}:
            authors see them.
          </span>
        ) : (
          <a href={`/api/v1/runs/${run.id}/zip`} download>
            All files and their descriptor as one archive
          </a>
        )}
      </p>
      <FilePreview file={looked} onClose={() => setLooked(null)} />
    </>
  );
}

function Facts({ run }: { run: RunRecord }) {
  const values = Object.entries(run.values_in_effect as Record<string, unknown>);
  const facts: [string, React.ReactNode][] = [
    ["Extract", <Link to={`/extracts/${run.extract}`}>{run.extract}</Link>],
    ["Revision", run.revision],
    [
      "Source",
      run.source ? (
        <>
          <Link to={`/sources/${run.source}?environment=${run.environment}`}>{run.source}</Link> in {run.environment},
          read-only
        </>
      ) : run.inputs.length ? (
        amount(run.inputs.length, "input")
      ) : (
        "none: computed from its values"
      ),
    ],
    ...Object.entries(run.identity).map(([key, value]): [string, React.ReactNode] => [
      key.charAt(0).toUpperCase() + key.slice(1),
      <span className="mono">{value}</span>,
    ]),
    ["Started by", run.schedule ? `schedule ${run.schedule}, due ${moment(run.due_at)}` : run.started_by],
    ["Data date", run.data_date],
    ["Began", moment(run.started_at)],
    ["Published", publishedWords(run)],
    ["Attempt", run.attempt > 1 || run.state === "waiting" ? run.attempt : null],
    ["Failed", run.failures ? `${amount(run.failures, "attempt")} of at most ${run.max_attempts}` : null],
    ["Lost", run.lost ? `${amount(run.lost, "attempt")}, with a worker` : null],
    ["Delivers into", run.deliver_into || null],
    ["Finish by", run.finish_by ? moment(run.finish_by) : null],
    ["Step", run.step > 1 ? `${run.step} of its sequence` : null],
    [
      "Backfill",
      run.backfill_id ? (
        <Link key="backfill" className="in-text" to={`/runs?backfill=${run.backfill_id}`}>
          {run.backfill_id}, at low priority
        </Link>
      ) : run.backfill ? (
        "yes, at low priority"
      ) : null,
    ],
    [
      "Input of",
      run.member_of ? (
        <Link key="member" className="in-text" to={`/runs/${run.member_of}`}>
          run {run.member_of}
        </Link>
      ) : null,
    ],
    ["Rerun of", run.again_of ? <Link to={`/runs/${run.again_of}`}>run {run.again_of}</Link> : null],
    [
      "Same result",
      run.same_as_before === null
        ? null
        : run.same_as_before
          ? "yes, to the byte"
          : "no: the source gave something else",
    ],
  ];
  return (
    <dl className="facts">
      {facts
        .filter(([, value]) => value !== null && value !== undefined)
        .map(([name, value]) => (
          <div key={name} style={{ display: "contents" }}>
            <dt>{name}</dt>
            <dd>{value}</dd>
          </div>
        ))}
      {values.map(([name, value]) => (
        <div key={name} style={{ display: "contents" }}>
          <dt className="mono">:{name}</dt>
          <dd>
            {value === null ? (
              <span className="dim">null</span>
            ) : Array.isArray(value) ? (
              value.join(", ")
            ) : (
              (value as string)
            )}
          </dd>
        </div>
      ))}
    </dl>
  );
}

export function RunPage() {
  const number = Number(useParams().number);
  const client = useQueryClient();
  const go = useNavigate();
  const { message } = App.useApp();
  const { may } = useMe();
  const query = useQuery({
    queryKey: ["run", number],
    queryFn: () => must(api.GET("/api/v1/runs/{number}", { params: { path: { number } } })),
    refetchInterval: (q) => (live(q.state.data?.state) || (q.state.data && delivering(q.state.data)) ? 1_000 : false),
  });
  const cancel = useMutation({
    mutationFn: () => must(api.POST("/api/v1/runs/{number}/cancel", { params: { path: { number } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["run", number] }),
  });
  const again = useMutation({
    mutationFn: (newest_revision: boolean) =>
      must(api.POST("/api/v1/runs/{number}/again", { params: { path: { number } }, body: { newest_revision } })),
    onSuccess: (made) => {
      void message.info(`Run ${made.id} repeats run ${number}.`);
      void go(`/runs/${made.id}`);
    },
  });
  const publish = useMutation({
    mutationFn: (wanted: boolean) =>
      wanted
        ? must(api.POST("/api/v1/runs/{number}/publish", { params: { path: { number } } }))
        : must(api.POST("/api/v1/runs/{number}/withdraw", { params: { path: { number } }, body: { note: "" } })),
    onSuccess: async (made) => {
      await client.invalidateQueries({ queryKey: ["run", number] });
      void message.info(
        made.published
          ? made.delivery === "waiting"
            ? "Published, and being delivered."
            : "Published: it may be the latest result of its extract."
          : "Withdrawn: it is a trial now. Delivered files stay where they are.",
      );
    },
  });
  const [deciding, setDeciding] = useState<"release" | "reject" | null>(null);
  const [choosing, setChoosing] = useState(false);
  const run = query.data;
  if (!run)
    return (
      <div className="page">
        <ProblemNote error={query.error} />
      </div>
    );
  return (
    <div className="page">
      <header className="head">
        <h1>Run {run.id}</h1>
        <p>
          {run.extract} <RunMark run={run} />
        </p>
        <p>
          {run.rows !== null && amount(run.rows, "row")}
          {run.started_at && `, ${took(run.started_at, run.ended_at)}`}
        </p>
        <div className="grow" />
        {run.state === "finished" &&
          run.saved &&
          run.member_of === null &&
          run.held !== "held" &&
          run.held !== "rejected" &&
          may(run.published ? "author" : "runner") && (
            <Button loading={publish.isPending} onClick={() => publish.mutate(!run.published)}>
              {run.published ? "Withdraw" : "Publish"}
            </Button>
          )}
        {may("author") && run.held === "held" && (
          <>
            <Button type="primary" onClick={() => setDeciding("release")}>
              Release
            </Button>
            <Button danger onClick={() => setDeciding("reject")}>
              Reject
            </Button>
          </>
        )}
        {may("runner") && live(run.state) && (
          <Button danger disabled={!!run.cancel_asked_by} loading={cancel.isPending} onClick={() => cancel.mutate()}>
            {run.cancel_asked_by ? "Stopping" : "Cancel"}
          </Button>
        )}
        {may("runner") && !live(run.state) && run.member_of === null && (
          <Space.Compact>
            <Button
              loading={again.isPending}
              title="The same revision, values and data date"
              onClick={() => again.mutate(false)}
            >
              Run again
            </Button>
            <Menu items={[{ key: "newest", label: "With the newest revision" }]} onChoose={() => again.mutate(true)}>
              <Button aria-label="With another revision" icon={<DownOutlined />} />
            </Menu>
          </Space.Compact>
        )}
      </header>
      <Stages run={run} />
      <ProblemNote error={cancel.error ?? again.error ?? publish.error ?? query.error} />
      {!run.saved && (
        <p className="said-line">
          <span>
            It was run without being saved. To keep what it ran:{" "}
            <Link className="in-text" to={`/extracts/${run.extract}`}>
              {run.extract}
            </Link>
          </span>
        </p>
      )}
      {run.waits_for && (
        <div className="problem calm" role="status">
          <strong>Waits for {run.waits_for}.</strong>
          <span>
            {run.wait_until && `Looked at again ${moment(run.wait_until)}.`}
            {run.error && ` The last attempt said: ${run.error.message}`}
          </span>
        </div>
      )}
      {run.delivery_error && (run.delivery === "failed" || delivering(run)) && (
        <div className="problem" role="status">
          <strong>
            {run.delivery === "failed"
              ? "Not delivered:"
              : `Not delivered yet${run.deliver_at ? `; tried again ${moment(run.deliver_at)}` : ""}:`}{" "}
            {run.delivery_error.message}
          </strong>
          <span>{run.delivery_error.hint} The result is stored and proven.</span>
          {may("author") && run.delivery !== "in_progress" && (
            <span>
              <Button onClick={() => setChoosing(true)}>Decide about the delivery</Button>
            </span>
          )}
        </div>
      )}
      {run.error && (run.state === "failed" || run.state === "not_run") && (
        <Failed
          error={run.error}
          place={
            may("author")
              ? { to: (line, column) => `/extracts/${run.extract}?line=${line}&column=${column}` }
              : undefined
          }
        />
      )}
      {run.findings.length > 0 && (
        <div className={`problem${run.held === "held" ? "" : " calm"}`} role="status">
          <strong>
            {run.held === "held"
              ? "Held: stored and proven, not delivered."
              : run.held
                ? `${run.held === "released" ? "Released" : "Rejected"} by ${run.held_by}${run.held_note && `: ${run.held_note}`}.`
                : "Guards noticed:"}
          </strong>
          {run.findings.map((finding) => (
            <span key={finding.text}>{finding.text}</span>
          ))}
          {run.held === "held" && <span>An author looks at the files below, then releases or rejects them.</span>}
        </div>
      )}
      {choosing && <DeliveryChoice run={run} onClose={() => setChoosing(false)} />}
      {deciding && <Decision run={run} verb={deciding} onClose={() => setDeciding(null)} />}
      {run.inputs.length > 0 && <InputsOf run={run} />}
      <h2>Files</h2>
      <div className="card">
        <Files run={run} />
        {run.warnings.map((warning) => (
          <div className="flag" key={warning}>
            {warning}
          </div>
        ))}
      </div>
      <h2>Log</h2>
      <RunLog number={run.id} live={live(run.state)} />
      <div className="cards">
        <section>
          <h2>Details</h2>
          <div className="card">
            <Facts run={run} />
          </div>
        </section>
        <section>
          <h2>Statement</h2>
          <StatementView text={run.statement} engine={run.engine} label="Statement" />
        </section>
      </div>
    </div>
  );
}
