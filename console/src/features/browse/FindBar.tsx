import { Button, Input } from "antd";
import { amount, count } from "../../lib/words";

interface Props {
  find: string;
  hits: [number, number][];
  at: number;
  onFind: (text: string) => void;
  onGo: (at: number) => void;
  onMarkAll: () => void;
}

/** Text that is looked for in the rows that are here: how often it is there, from one to the next, and all its rows marked. */
export function FindBar({ find, hits, at, onFind, onGo, onMarkAll }: Props) {
  const rows = new Set(hits.map(([row]) => row)).size;
  const step = (by: number) => hits.length && onGo((at + by + hits.length) % hits.length);
  return (
    <div className="filters" role="search" aria-label="In the rows shown">
      <Input
        size="small"
        allowClear
        aria-label="Find in these rows"
        placeholder="Find in these rows"
        style={{ width: 190 }}
        value={find}
        onChange={(event) => onFind(event.target.value)}
        onKeyDown={(event) => {
          if (event.key === "Enter") step(event.shiftKey ? -1 : 1);
          else if (event.key === "Escape") onFind("");
        }}
      />
      <span aria-live="polite">
        {find &&
          (hits.length
            ? `${at >= 0 ? `${count(at + 1)} of ` : ""}${hits.length === 1 ? "1 place" : `${count(hits.length)} places`} in ${amount(rows, "row")}`
            : "Not in these rows. There may be more: filter in the source.")}
      </span>
      {hits.length > 0 && (
        <>
          <Button size="small" title="Shift+Enter" onClick={() => step(-1)}>
            Previous place
          </Button>
          <Button size="small" title="Enter" onClick={() => step(1)}>
            Next place
          </Button>
          <Button size="small" onClick={onMarkAll}>
            Mark {amount(rows, "row")}
          </Button>
        </>
      )}
    </div>
  );
}
