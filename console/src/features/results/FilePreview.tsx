import { useQuery } from "@tanstack/react-query";
import { Drawer, Select } from "antd";
import { useState } from "react";
import { api, must } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { amount } from "../../lib/words";
import { ResultGrid } from "../browse/ResultGrid";

export interface Looked {
  run: number;
  name: string;
  sheets: string[];
}

export const sheetsOf = (sheets: unknown[], format: string) =>
  format === "xlsx" ? sheets.map((sheet) => String((sheet as unknown[])[0])) : [];
export const fileAddress = (run: number, name: string) => `/api/v1/runs/${run}/files/${encodeURIComponent(name)}`;

/** The first rows of a stored file, as they stand in it. */
export function FilePreview({ file, onClose }: { file: Looked | null; onClose: () => void }) {
  return (
    <Drawer open={!!file} onClose={onClose} title={file?.name} size={900} destroyOnHidden>
      {file && <Rows key={`${file.run} ${file.name}`} file={file} />}
    </Drawer>
  );
}

function Rows({ file }: { file: Looked }) {
  const [sheet, setSheet] = useState(file.sheets[0] ?? "");
  const found = useQuery({
    queryKey: ["file", file.run, file.name, sheet],
    staleTime: Infinity,
    queryFn: () =>
      must(
        api.GET("/api/v1/runs/{number}/files/{name}/preview", {
          params: { path: { number: file.run, name: file.name }, query: { rows: 50, ...(sheet ? { sheet } : {}) } },
        }),
      ),
  });
  const glance = (column: string) =>
    must(
      api.GET("/api/v1/runs/{number}/files/{name}/profile", {
        params: { path: { number: file.run, name: file.name }, query: { column, ...(sheet ? { sheet } : {}) } },
      }),
    );
  if (found.error) return <ProblemNote error={found.error} />;
  return (
    <>
      <div className="filters">
        {file.sheets.length > 1 && (
          <Select
            aria-label="Sheet"
            value={sheet}
            onChange={setSheet}
            options={file.sheets.map((name) => ({ value: name, label: name }))}
            style={{ minWidth: 160 }}
          />
        )}
        <span className="dim" aria-live="polite">
          {!found.data
            ? "Reading…"
            : found.data.complete
              ? `All of it: ${amount(found.data.rows.length, "row")}.`
              : `The first ${amount(found.data.rows.length, "row")}; the file has more.`}
        </span>
        <a href={fileAddress(file.run, file.name)} download={file.name}>
          Download the whole file
        </a>
      </div>
      {found.data && (
        <ResultGrid
          key={sheet}
          id=""
          columns={found.data.columns.map((name) => ({ name, kind: "any" }))}
          rows={found.data.rows}
          complete={found.data.complete}
          label={file.name}
          profile={{ of: "of all rows of the file", ask: glance }}
        />
      )}
    </>
  );
}
