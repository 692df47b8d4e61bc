import { useState } from "react";
import { LinkOutlined } from "@ant-design/icons";
import { useQuery } from "@tanstack/react-query";
import { App, Button, Table, type TableColumnsType } from "antd";
import { Link } from "react-router";
import { api, must, type ResultLine } from "../../api/client";
import { usePages } from "../../api/usePages";
import { Narrowing } from "../../components/Narrowing";
import { ProblemNote } from "../../components/ProblemNote";
import { arrowed, askedFor, sortedByClick } from "../../lib/sorting";
import { useAddress } from "../../lib/useAddress";
import { count, moment, size } from "../../lib/words";
import { useMe } from "../session/useMe";
import { fileAddress, FilePreview, sheetsOf, type Looked } from "./FilePreview";
import "../runs/runs.css";

/** Every file of finished runs, newest first: looked into, taken singly, or by an address that follows the latest run. */
export function ResultsPage() {
  const [at, set] = useAddress({ search: "", extract: "", environment: "", format: "", sort: "" });
  const [looked, setLooked] = useState<Looked | null>(null);
  const { message } = App.useApp();
  const { may } = useMe();
  const { items: files, ...pages } = usePages(
    ["results", at],
    (cursor) =>
      must(
        api.GET("/api/v1/results", {
          params: {
            query: {
              search: at.search.trim() || undefined,
              extract: at.extract || undefined,
              environment: at.environment || undefined,
              format: at.format || undefined,
              ...(askedFor(at.sort) as object),
              cursor,
            },
          },
        }),
      ),
    10_000,
    true,
  );
  const formats = useQuery({
    queryKey: ["formats"],
    queryFn: () => must(api.GET("/api/v1/formats")),
    staleTime: Infinity,
  });
  const narrowed = Object.entries(at).some(([key, value]) => key !== "sort" && value);
  const copy = async (file: ResultLine) => {
    const address = `${location.origin}/api/v1/extracts/${encodeURIComponent(file.extract)}/latest/${file.format}?environment=${encodeURIComponent(file.environment)}`;
    await navigator.clipboard.writeText(address);
    void message.success("Copied: an address that always gives what this extract published last in this format.");
  };
  const columns: TableColumnsType<ResultLine> = [
    {
      title: "File",
      key: "name",
      sorter: true,
      render: (_, file) => (
        <button
          type="button"
          className="plain link"
          onClick={() => setLooked({ run: file.run, name: file.name, sheets: sheetsOf(file.sheets, file.format) })}
        >
          {file.name}
        </button>
      ),
    },
    {
      title: "Extract",
      key: "extract",
      width: 170,
      sorter: true,
      render: (_, file) => <Link to={`/extracts/${file.extract}`}>{file.extract}</Link>,
    },
    {
      title: "Run",
      key: "id",
      width: 70,
      sorter: true,
      render: (_, file) => <Link to={`/runs/${file.run}`}>{file.run}</Link>,
    },
    { title: "Rows", key: "rows", width: 86, align: "right", sorter: true, render: (_, file) => count(file.rows) },
    { title: "Size", key: "bytes", width: 92, align: "right", sorter: true, render: (_, file) => size(file.bytes) },
    { title: "Data date", key: "data_date", dataIndex: "data_date", width: 104, sorter: true },
    { title: "Ended", key: "ended", width: 132, align: "right", render: (_, file) => moment(file.ended_at) },
    {
      title: "Standing",
      key: "standing",
      width: 88,
      render: (_, file) =>
        file.held === "held" || file.held === "rejected" ? (
          <span className="flag">{file.held}</span>
        ) : file.published ? (
          "published"
        ) : (
          <span className="dim">trial</span>
        ),
    },
    {
      title: "Take",
      key: "take",
      width: 124,
      render: (_, file) => (
        <span className="beside-each-other">
          <a href={fileAddress(file.run, file.name)} download={file.name} aria-label={`Download ${file.name}`}>
            Download
          </a>
          {file.published && (
            <Button
              size="small"
              type="text"
              icon={<LinkOutlined />}
              title="Copy link to latest"
              aria-label={`Copy link to latest ${file.format} of ${file.extract}`}
              onClick={() => void copy(file)}
            />
          )}
        </span>
      ),
    },
  ];
  return (
    <div className="page">
      <header className="head">
        <h1>Result files</h1>
        <p>Each was proven: rows fetched, written and read back agree.</p>
      </header>
      <Narrowing
        at={at}
        set={set}
        search="Words in names of files, extracts, folders"
        choices={[
          {
            key: "format",
            label: "Format",
            options: (formats.data?.formats ?? []).map(({ name }) => ({ value: name, label: name })),
          },
        ]}
        environment
      />
      {at.extract && (
        <p>
          Files of{" "}
          <Link className="in-text" to={`/extracts/${at.extract}`}>
            {at.extract}
          </Link>
          .{" "}
          <Link className="in-text" to="/results">
            All files
          </Link>
        </p>
      )}
      <ProblemNote error={pages.error} />
      <Table<ResultLine>
        size="small"
        rowKey={(file) => `${file.run} ${file.name}`}
        columns={arrowed(columns, at.sort)}
        dataSource={files}
        pagination={false}
        tableLayout="fixed"
        onChange={(_page, _filters, sorter) => set({ sort: sortedByClick(sorter) })}
        {...(files.length ? { scroll: { x: 1080 } } : {})}
        locale={{
          emptyText: pages.isPending ? (
            " "
          ) : (
            <div className="hollow">
              <p>{narrowed ? "No result file is like that." : "No result files yet."}</p>
              {!narrowed && may("runner") && <Link to="/extracts">Choose an extract and run it</Link>}
            </div>
          ),
        }}
      />
      {pages.hasNextPage && (
        <Button loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          Show more
        </Button>
      )}
      <FilePreview file={looked} onClose={() => setLooked(null)} />
    </div>
  );
}
