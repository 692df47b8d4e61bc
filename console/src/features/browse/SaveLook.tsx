import { useMutation } from "@tanstack/react-query";
import { Button, Checkbox, Input } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, must, type Extract, type Filter, type SourceQuery } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { useMe } from "../session/useMe";
import type { Place } from "./useTable";

export interface Look {
  filters: Filter[];
  sort: string;
  descending: boolean;
  /** The columns that are shown, in their order; undefined: all. */
  columns: string[] | undefined;
}

const made = "made while browsing";

/** The statement behind a view with its values, and the press that makes it an extract: of rows by its outline (`look`). */
export function SaveLook({
  found,
  name,
  place,
  look,
}: {
  found: SourceQuery;
  name: string;
  place: Place;
  look?: Look;
}) {
  const { may } = useMe();
  const go = useNavigate();
  const [wanted, setWanted] = useState("");
  const [asks, setAsks] = useState(true);
  const suggested = wanted || `${name.replace(/\W+/g, "_").toLowerCase()}_look`;
  const values = found.values as Record<string, string>;
  const said = found.statement || (found.result?.statement ?? "");
  const add = (content: Record<string, unknown> & { statement: string }): Promise<Extract> =>
    must(
      api.POST("/api/v1/extracts", {
        body: { name: suggested, folder: "", source: found.source, change_note: made, ...content },
      }),
    );
  const save = useMutation({
    mutationFn: async () => {
      if (!look) {
        const parameters = found.parameters.map((p) => ({ ...p, default: values[String(p.name)] ?? null }));
        return add({ statement: said, parameters });
      }
      const { columns, ...rest } = look;
      const body = { ...place, ...rest, as_parameters: asks, ...(columns ? { columns } : {}) };
      const { outline, statement, parameters } = await must(api.POST("/api/v1/outlines/look", { body }));
      return add({ statement, outline, parameters });
    },
    onSuccess: (saved) => void go(`/extracts/${saved.name}`),
  });
  return (
    <details>
      <summary>The statement behind this, {found.result?.seconds ?? 0} s</summary>
      <pre className="mono said-statement" tabIndex={0}>
        {said}
        {Object.entries(values).map(([key, value]) => `\n-- :${key} = ${value}`)}
      </pre>
      {may("author") && (
        <div className="filters">
          <Input
            size="small"
            aria-label="Name of the extract"
            style={{ width: 220 }}
            value={wanted}
            placeholder={suggested}
            onChange={(e) => setWanted(e.target.value)}
          />
          {look && look.filters.length > 0 && (
            <Checkbox checked={asks} onChange={(e) => setAsks(e.target.checked)}>
              Each run may give other values
            </Checkbox>
          )}
          <Button size="small" loading={save.isPending} onClick={() => save.mutate()}>
            Make it an extract
          </Button>
        </div>
      )}
      <ProblemNote error={save.error} />
    </details>
  );
}
