import type { Cell } from "../../lib/grid";
import { size } from "../../lib/words";

/** A cell as it stands in a look: null and empty text are told apart, what is long or no text is opened. */
export function Value({ cell, onOpen }: { cell: Cell; onOpen?: () => void }) {
  if (cell === null) return <i title="null">∅</i>;
  if (cell === "") return <i title="empty text">""</i>;
  if (typeof cell === "string") return <>{cell}</>;
  const words =
    "media" in cell
      ? `${cell.media.replace("application/octet-stream", "binary")}, ${size(cell.bytes)}`
      : `${cell.text.slice(0, 80)}…`;
  return (
    <button type="button" className="open" tabIndex={-1} onClick={onOpen}>
      {words}
    </button>
  );
}
