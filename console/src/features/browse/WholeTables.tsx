import { useMutation } from "@tanstack/react-query";
import { Button, Checkbox, Input } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, must } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { amount } from "../../lib/words";

/** Tables as they are, ticked in the tree: one extract with a statement for each, one sheet or file each. */
export function WholeTables({
  source,
  environment,
  tables,
  onLeave,
}: {
  source: string;
  environment: string;
  tables: string[];
  onLeave: () => void;
}) {
  const go = useNavigate();
  const [name, setName] = useState("");
  const [labels, setLabels] = useState(true);
  const suggested = name || `${source}_tables`;
  const save = useMutation({
    mutationFn: async () => {
      const { statement } = await must(
        api.POST("/api/v1/outlines/tables", { body: { source, environment, tables, labels } }),
      );
      return must(
        api.POST("/api/v1/extracts", {
          body: {
            ...{ name: suggested, folder: "", source, statement, formats: ["xlsx"] },
            change_note: `${amount(tables.length, "table")} as they are`,
          },
        }),
      );
    },
    onSuccess: (made) => void go(`/extracts/${made.name}`),
  });
  return (
    <div className="ticks">
      <span aria-live="polite">
        {tables.length ? `${amount(tables.length, "table")} ticked` : "Tick the tables that are wanted as they are."}
      </span>
      <Checkbox checked={labels} onChange={(event) => setLabels(event.target.checked)}>
        With names beside numbers of other tables
      </Checkbox>
      <Input
        size="small"
        aria-label="Name of the extract of whole tables"
        placeholder={suggested}
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <div className="filters">
        <Button size="small" disabled={!tables.length} loading={save.isPending} onClick={() => save.mutate()}>
          Make an extract
        </Button>
        <Button size="small" type="text" onClick={onLeave}>
          Leave
        </Button>
      </div>
      <ProblemNote error={save.error} />
    </div>
  );
}
