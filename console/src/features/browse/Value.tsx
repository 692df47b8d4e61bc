import { parted, type Cell } from "../../lib/grid";
import { size } from "../../lib/words";

/** A cell as it stands in a look: null and empty text are told apart, what is long or no text is opened. */
export function Value({ cell, find = "", onOpen }: { cell: Cell; find?: string; onOpen?: () => void }) {
  if (cell === null) return <i title="null">∅</i>;
  if (cell === "") return <i title="empty text">""</i>;
  if (typeof cell === "string") return <Marked text={cell} find={find} />;
  const words =
    "media" in cell
      ? `${cell.media.replace("application/octet-stream", "binary")}, ${size(cell.bytes)}`
      : `${cell.text.slice(0, 80)}…`;
  const found = find !== "" && "text" in cell && cell.text.toLowerCase().includes(find.toLowerCase());
  return (
    <button type="button" className="open" tabIndex={-1} onClick={onOpen}>
      {found ? <mark>{words}</mark> : words}
    </button>
  );
}

/** A text with what is searched for marked in it. */
export function Marked({ text, find }: { text: string; find: string }) {
  if (!find || !text.toLowerCase().includes(find.toLowerCase())) return <>{text}</>;
  return parted(text, find).map((piece, n) => (piece.hit ? <mark key={n}>{piece.text}</mark> : piece.text));
}
