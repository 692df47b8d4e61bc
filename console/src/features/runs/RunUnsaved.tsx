import { useMutation } from "@tanstack/react-query";
import { Button, Select } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, must, type UnsavedBody } from "../../api/client";
import { useFormats } from "../../api/useFormats";
import { ProblemNote } from "../../components/ProblemNote";

/** Starts a trial of what is not saved, in a format that is chosen beside it, and goes to its run. */
export function RunUnsaved({
  label,
  body,
  first = "csv",
  disabled = false,
}: {
  label: string;
  body: (formats: string[]) => UnsavedBody;
  first?: string | undefined;
  disabled?: boolean;
}) {
  const go = useNavigate();
  const formats = useFormats();
  const [format, setFormat] = useState<string>();
  const start = useMutation({
    mutationFn: () =>
      must(
        api.POST("/api/v1/unsaved-runs", {
          params: { header: { "Idempotency-Key": crypto.randomUUID() } },
          body: body([format ?? first]),
        }),
      ),
    onSuccess: (run) => void go(`/runs/${run.id}`),
  });
  return (
    <span className="filters" style={{ margin: 0 }}>
      <Select
        size="small"
        aria-label="Format of the file"
        style={{ width: 110 }}
        value={format ?? first}
        onChange={setFormat}
        options={(formats.data?.formats ?? []).map((each) => ({ value: each.name, label: each.name }))}
      />
      <Button size="small" disabled={disabled} loading={start.isPending} onClick={() => start.mutate()}>
        {label}
      </Button>
      <ProblemNote error={start.error} />
    </span>
  );
}
