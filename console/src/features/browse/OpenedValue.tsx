import { useState } from "react";
import { Dialog } from "../../components/Dialog";
import type { Cell } from "../../lib/grid";
import { amount } from "../../lib/words";

/** A value that is long or no text, by itself: all of it on request, a picture drawn, the rest to be downloaded. */
export function OpenedValue({
  address,
  cell,
  name,
  onClose,
}: {
  address: string;
  cell: Exclude<Cell, string | null>;
  name: string;
  onClose: () => void;
}) {
  const [text, setText] = useState<string | null>(null);
  const isText = "text" in cell;
  const look = !isText && /^image\/(png|jpeg|gif|webp)$/.test(cell.media);
  const load = () =>
    void fetch(address)
      .then((answer) => answer.text())
      .then(setText);
  return (
    <Dialog
      what="This value"
      title={name}
      onCancel={onClose}
      footer={
        cell.kept ? (
          <a href={address} download>
            Download
          </a>
        ) : null
      }
      width={680}
    >
      {isText && (
        <p className="dim">
          {amount(cell.characters, "character")}
          {text === null && cell.kept && (
            <>
              {" "}
              ·{" "}
              <button type="button" className="plain" onClick={load}>
                show all of them
              </button>
            </>
          )}
        </p>
      )}
      {isText && (
        <pre className="mono" style={{ maxHeight: "60vh", overflow: "auto", whiteSpace: "pre-wrap" }} tabIndex={0}>
          {text ?? `${cell.text}…`}
        </pre>
      )}
      {!isText && (
        <p className="dim">
          {cell.media}, {amount(cell.bytes, "byte")}
        </p>
      )}
      {look && cell.kept && <img src={`${address}?inline=true`} alt={`${name}, ${cell.media}`} className="picture" />}
      {!cell.kept && <p>Too large to be kept for a look. Run it as an extract.</p>}
    </Dialog>
  );
}
