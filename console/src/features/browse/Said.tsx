import { useMutation } from "@tanstack/react-query";
import { Button, Input } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, must, type SourceQuery } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { useMe } from "../session/useMe";

/** The statement behind a view with its values, and the press that makes it an extract. */
export function Said({ found, name }: { found: SourceQuery; name: string }) {
  const { may } = useMe();
  const go = useNavigate();
  const [wanted, setWanted] = useState("");
  const suggested = wanted || `${name.replace(/\W+/g, "_").toLowerCase()}_look`;
  const values = found.values as Record<string, string>;
  const save = useMutation({
    mutationFn: () =>
      must(
        api.POST("/api/v1/extracts", {
          body: {
            name: suggested,
            folder: "",
            source: found.source,
            statement: found.statement,
            change_note: "made while browsing",
            parameters: found.parameters.map((p) => ({ ...p, default: values[String(p.name)] ?? null })),
          },
        }),
      ),
    onSuccess: (made) => void go(`/extracts/${made.name}`),
  });
  return (
    <details>
      <summary>The statement behind this, {found.result?.seconds ?? 0} s</summary>
      <pre className="mono said-statement" tabIndex={0}>
        {found.statement}
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
          <Button size="small" loading={save.isPending} onClick={() => save.mutate()}>
            Make it an extract
          </Button>
        </div>
      )}
      <ProblemNote error={save.error} />
    </details>
  );
}
