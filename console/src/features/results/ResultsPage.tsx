import { App, Button, Input } from "antd";
import { useDeferredValue, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, must, type ResultLine } from "../../api/client";
import { usePages } from "../../api/usePages";
import { ProblemNote } from "../../components/ProblemNote";
import { count, moment, size } from "../../lib/words";
import { fileAddress, FilePreview, sheetsOf, type Looked } from "./FilePreview";
import "../runs/runs.css";

/** Every file of finished runs, newest first: looked into, taken singly, or by an address that follows the latest run. */
export function ResultsPage() {
  const [params, setParams] = useSearchParams();
  const extract = params.get("extract") ?? "";
  const asked = useDeferredValue(extract);
  const [looked, setLooked] = useState<Looked | null>(null);
  const { message } = App.useApp();
  const { items: files, ...pages } = usePages(
    ["results", asked],
    (cursor) => must(api.GET("/api/v1/results", { params: { query: { extract: asked || undefined, cursor } } })),
    10_000,
    true,
  );
  const copy = async (file: ResultLine) => {
    const address = `${location.origin}/api/v1/extracts/${encodeURIComponent(file.extract)}/latest/${file.format}?environment=${encodeURIComponent(file.environment)}`;
    await navigator.clipboard.writeText(address);
    void message.success("Copied: an address that always gives what this extract published last in this format.");
  };
  return (
    <div className="page">
      <h1>Result files</h1>
      <div className="filters">
        <Input.Search
          aria-label="Name of an extract"
          placeholder="Name of an extract"
          allowClear
          value={extract}
          onChange={(e) => setParams(e.target.value ? { extract: e.target.value } : {}, { replace: true })}
          style={{ maxWidth: 280 }}
        />
        <span className="dim">Each was proven: rows fetched, written and read back agree.</span>
      </div>
      <ProblemNote error={pages.error} />
      {pages.data && !files.length && (
        <div className="hollow">
          <p>{asked ? `No result files of '${asked}' yet.` : "No result files yet."}</p>
          <Link to="/extracts">Choose an extract and run it</Link>
        </div>
      )}
      {files.length > 0 && (
        <table className="files">
          <thead>
            <tr>
              <th>File</th>
              <th>Extract</th>
              <th>Run</th>
              <th className="n">Rows</th>
              <th className="n">Size</th>
              <th>Data date</th>
              <th>Ended</th>
              <th>Standing</th>
              <th>Take</th>
            </tr>
          </thead>
          <tbody>
            {files.map((file) => (
              <tr key={`${file.run} ${file.name}`}>
                <td>
                  <button
                    type="button"
                    className="plain link"
                    onClick={() =>
                      setLooked({ run: file.run, name: file.name, sheets: sheetsOf(file.sheets, file.format) })
                    }
                  >
                    {file.name}
                  </button>
                </td>
                <td>
                  <Link to={`/extracts/${file.extract}`}>{file.extract}</Link>
                </td>
                <td>
                  <Link to={`/runs/${file.run}`}>{file.run}</Link>
                </td>
                <td className="n">{count(file.rows)}</td>
                <td className="n">{size(file.bytes)}</td>
                <td>{file.data_date}</td>
                <td>{moment(file.ended_at)}</td>
                <td>
                  {file.held === "held" || file.held === "rejected" ? (
                    <span className="flag">{file.held}</span>
                  ) : file.published ? (
                    "published"
                  ) : (
                    <span className="dim">trial</span>
                  )}
                </td>
                <td style={{ whiteSpace: "nowrap" }}>
                  <a href={fileAddress(file.run, file.name)} download={file.name} aria-label={`Download ${file.name}`}>
                    Download
                  </a>{" "}
                  {file.published && (
                    <Button
                      size="small"
                      type="text"
                      aria-label={`Copy link to latest ${file.format} of ${file.extract}`}
                      onClick={() => void copy(file)}
                    >
                      Copy link to latest
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {pages.hasNextPage && (
        <Button loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          Show more
        </Button>
      )}
      <FilePreview file={looked} onClose={() => setLooked(null)} />
    </div>
  );
}
