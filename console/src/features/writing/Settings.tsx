import { Input, Select } from "antd";
import type { Source } from "../../api/client";
import { useSameLanguage } from "../../api/useEngines";
import { Guards } from "./Guards";
import type { Draft } from "./useDraft";

/** What a revision holds besides statement and parameters. Another source must take the same language. */
export function Settings({
  draft,
  sources,
  engine,
  onChange,
}: {
  draft: Draft;
  sources: Source[];
  engine: string;
  onChange: (more: Partial<Draft>) => void;
}) {
  const same = useSameLanguage(engine);
  return (
    <div className="settings-grid" style={{ marginTop: 8 }}>
      <label htmlFor="draft-source">Source</label>
      <Select
        id="draft-source"
        value={draft.source}
        onChange={(source: string) => onChange({ source })}
        options={[
          ...sources.filter((s) => same(s.engine)).map((s) => ({ value: s.name, label: s.name })),
          ...(draft.source ? [] : [{ value: "", label: "none: computed from its values" }]),
        ]}
        style={{ maxWidth: 260 }}
      />
      <label htmlFor="draft-file">File name</label>
      <Input
        id="draft-file"
        className="mono"
        title="Fields: {extract}, {folder}, {data_date:%Y%m}, {environment}, {statement}, {part}, {run}, {value.NAME}"
        value={draft.file_name}
        onChange={(e) => onChange({ file_name: e.target.value })}
      />
      <label htmlFor="draft-into">Deliver into</label>
      <Input
        id="draft-into"
        className="mono"
        placeholder="a folder below the delivery folders, or several, separated by commas; empty: not delivered"
        value={draft.deliver_into}
        onChange={(e) => onChange({ deliver_into: e.target.value })}
      />
      <span>Guards</span>
      <Guards guards={draft.guards} onChange={(guards) => onChange({ guards })} />
      <label htmlFor="draft-notes">Notes, in Markdown</label>
      <Input.TextArea
        id="draft-notes"
        autoSize={{ minRows: 3, maxRows: 12 }}
        value={draft.notes}
        onChange={(e) => onChange({ notes: e.target.value })}
      />
    </div>
  );
}
