import { Input } from "antd";
import { useFormats } from "../../api/useFormats";
import { OF_DELIVERY } from "../../lib/decisions";
import { OptionsOf } from "./OutputSettings";
import type { Draft } from "./useDraft";

/** Where the files go, and in which manner. */
export function Delivery({ draft, onChange }: { draft: Draft; onChange: (more: Partial<Draft>) => void }) {
  const told = useFormats();
  const put = (files: Record<string, unknown>) => {
    const next = { ...draft.output, files };
    if (!Object.keys(files).length) delete (next as Partial<typeof next>).files;
    onChange({ output: next });
  };
  return (
    <div className="output">
      <div className="settings-grid">
        <label htmlFor="draft-into">Deliver into</label>
        <Input
          id="draft-into"
          className="mono"
          placeholder="a folder below the delivery folders, or several, separated by commas; empty: not delivered"
          value={draft.deliver_into}
          onChange={(e) => onChange({ deliver_into: e.target.value })}
        />
      </div>
      {draft.deliver_into.trim() && (
        <OptionsOf
          title="Delivery"
          options={(told.data?.files ?? []).filter((option) => OF_DELIVERY.includes(option.name))}
          values={draft.output.files ?? {}}
          onChange={put}
        />
      )}
    </div>
  );
}
