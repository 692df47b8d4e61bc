import { useMemo, useRef, useState } from "react";
import { useVirtualizer } from "@tanstack/react-virtual";
import { App, Button, Checkbox, Popover, Segmented } from "antd";
import { Dialog } from "../../components/Dialog";
import {
  aligned,
  asCsv,
  forSpreadsheet,
  guarded,
  isNumber,
  plain,
  sorted,
  type Cell,
  type GridColumn,
} from "../../lib/grid";
import { amount, count, size } from "../../lib/words";
import "./browse.css";

const ROW = 25;
const HEAD = 28;
const NUMBER = 56;
const WIDTH = 150;
const GUARD = "guard-formulas";

interface Props {
  id: string;
  columns: GridColumn[];
  rows: Cell[][];
  complete: boolean;
  total?: number | undefined;
  label: string;
}

function Value({ cell, onOpen }: { cell: Cell; onOpen: () => void }) {
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

function Opened({
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

/** Rows of a look: sorted on what is loaded, columns hidden, moved and sized, one record, transposed; copied or saved small. */
export function ResultGrid({ id, columns, rows, complete, total, label }: Props) {
  const { message } = App.useApp();
  const box = useRef<HTMLDivElement>(null);
  const [shape, setShape] = useState<"grid" | "record" | "turned">("grid");
  const [sort, setSort] = useState<{ column: number; descending: boolean } | null>(null);
  const [order, setOrder] = useState<number[]>(() => columns.map((_, i) => i));
  const [hidden, setHidden] = useState<Set<number>>(new Set());
  const [widths, setWidths] = useState<Record<number, number>>({});
  const [marked, setMarked] = useState<Set<number>>(new Set());
  const [last, setLast] = useState(0);
  const [guard, setGuard] = useState(() => localStorage.getItem(GUARD) === "yes");
  const [active, setActive] = useState<[number, number] | null>(null);
  const [anchor, setAnchor] = useState<[number, number] | null>(null);
  const dragged = useRef<number | null>(null);
  const [over, setOver] = useState<number | null>(null);
  const [opened, setOpened] = useState<[number, number] | null>(null);
  const lines = useMemo(
    () => (sort ? sorted(rows, sort.column, sort.descending) : rows.map((_, i) => i)),
    [rows, sort],
  );
  const shown = order.filter((i) => !hidden.has(i));
  const turned = shape === "turned";
  const across = turned ? lines.length : shown.length;
  const down = turned ? shown.length : lines.length;
  const width = (i: number) =>
    turned
      ? WIDTH
      : (widths[shown[i]!] ??
        Math.min(
          320,
          Math.max(
            76,
            columns[shown[i]!]!.name.length * 8 + 34,
            ...rows.slice(0, 30).map((r) => plain(r[shown[i]!]!).slice(0, 40).length * 7.6 + 18),
          ),
        ));
  // eslint-disable-next-line react-hooks/incompatible-library
  const vertical = useVirtualizer({
    count: down,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 12,
  });
  const sideways = useVirtualizer({
    horizontal: true,
    count: across,
    getScrollElement: () => box.current,
    estimateSize: width,
    overscan: 3,
    paddingStart: turned ? WIDTH : NUMBER,
  });
  const cellAt = (r: number, c: number): { row: number; column: number } =>
    turned ? { row: lines[c]!, column: shown[r]! } : { row: lines[r]!, column: shown[c]! };
  const range =
    active && anchor && (active[0] !== anchor[0] || active[1] !== anchor[1])
      ? {
          top: Math.min(active[0], anchor[0]),
          bottom: Math.max(active[0], anchor[0]),
          left: Math.min(active[1], anchor[1]),
          right: Math.max(active[1], anchor[1]),
        }
      : null;
  const inRange = (r: number, c: number) =>
    !!range && r >= range.top && r <= range.bottom && c >= range.left && c <= range.right;
  const pick = (r: number, c: number, extend: boolean) => {
    setAnchor(extend ? (anchor ?? active ?? [r, c]) : [r, c]);
    setActive([r, c]);
  };
  const chosen = () => {
    const [r0, r1, c0, c1] = range
      ? turned
        ? [range.left, range.right, range.top, range.bottom]
        : [range.top, range.bottom, range.left, range.right]
      : [0, lines.length - 1, 0, shown.length - 1];
    const across_ = shown.slice(c0, c1 + 1);
    const picked = range ? lines.slice(r0, r1 + 1) : marked.size ? lines.filter((i) => marked.has(i)) : lines;
    return { heads: across_.map((i) => columns[i]!), body: picked.map((r) => across_.map((c) => rows[r]![c]!)) };
  };
  const keepGuard = (next: boolean) => {
    localStorage.setItem(GUARD, next ? "yes" : "no");
    setGuard(next);
  };
  const copy = async (form: typeof forSpreadsheet) => {
    const { heads, body } = chosen();
    await navigator.clipboard.writeText(form(heads, body, guard));
    void message.success(`Copied ${amount(body.length, "row")} with ${body.length === 1 ? "its" : "their"} headers.`);
  };
  const save = () => {
    const { heads, body } = chosen();
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([asCsv(heads, body, guard)], { type: "text/csv" }));
    link.download = `${label.replace(/\W+/g, "-")}-look.csv`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  const mark = (line: number, range: boolean) => {
    const next = new Set(marked);
    const [from, to] = range ? [Math.min(last, line), Math.max(last, line)] : [line, line];
    for (let i = from; i <= to; i++) if (range || !next.delete(lines[i]!)) next.add(lines[i]!);
    setMarked(next);
    setLast(line);
  };
  const move = (column: number, by: number) => {
    const next = [...order];
    const at = next.indexOf(column);
    next.splice(at, 1);
    next.splice(Math.min(Math.max(at + by, 0), next.length), 0, column);
    setOrder(next);
    setAnchor(null);
    sideways.measure();
  };
  const drop = (target: number) => {
    const column = dragged.current;
    if (column !== null && column !== target) move(column, order.indexOf(target) - order.indexOf(column));
    dragged.current = null;
    setOver(null);
  };
  const drag = (column: number) => (down_: React.PointerEvent) => {
    const start = down_.clientX;
    const before = width(shown.indexOf(column));
    const target = down_.currentTarget;
    target.setPointerCapture(down_.pointerId);
    const follow = (event: Event) => {
      setWidths((now) => ({ ...now, [column]: Math.max(50, before + (event as PointerEvent).clientX - start) }));
      sideways.measure();
    };
    target.addEventListener("pointermove", follow);
    target.addEventListener("pointerup", () => target.removeEventListener("pointermove", follow), { once: true });
  };
  const keys = (event: React.KeyboardEvent) => {
    const steps: Record<string, [number, number]> = {
      ArrowDown: [1, 0],
      ArrowUp: [-1, 0],
      ArrowRight: [0, 1],
      ArrowLeft: [0, -1],
      PageDown: [15, 0],
      PageUp: [-15, 0],
    };
    const step = steps[event.key];
    const [r, c] = active ?? [0, 0];
    if (step) {
      const next: [number, number] = active
        ? [Math.min(Math.max(r + step[0], 0), down - 1), Math.min(Math.max(c + step[1], 0), across - 1)]
        : [0, 0];
      pick(...next, event.shiftKey);
      vertical.scrollToIndex(next[0]);
      sideways.scrollToIndex(next[1]);
    } else if (event.key === " " && !turned) mark(r, event.shiftKey);
    else if (event.key === "Enter" && active) open(cellAt(r, c).row, cellAt(r, c).column);
    else if (event.key === "c" && (event.ctrlKey || event.metaKey)) {
      if (range || marked.size || !active) void copy(forSpreadsheet);
      else {
        const { row, column } = cellAt(r, c);
        const cell = rows[row]![column]!;
        void navigator.clipboard
          .writeText(guard && !isNumber(columns[column]!, cell) ? guarded(plain(cell)) : plain(cell))
          .then(() => message.success("Copied one cell."));
      }
    } else return;
    event.preventDefault();
  };
  const open = (row: number, column: number) => setOpened([row, column]);
  const opening = opened && rows[opened[0]]![opened[1]]!;
  const menu = (
    <div className="columns-menu">
      {order.map((i) => (
        <div key={i}>
          <Checkbox
            checked={!hidden.has(i)}
            onChange={(e) => {
              const next = new Set(hidden);
              if (e.target.checked) next.delete(i);
              else next.add(i);
              setHidden(next);
              sideways.measure();
            }}
          >
            {columns[i]!.name}
          </Checkbox>
          <Button size="small" type="text" aria-label={`Move ${columns[i]!.name} left`} onClick={() => move(i, -1)}>
            ↑
          </Button>
          <Button size="small" type="text" aria-label={`Move ${columns[i]!.name} right`} onClick={() => move(i, 1)}>
            ↓
          </Button>
        </div>
      ))}
    </div>
  );
  return (
    <>
      <div className="filters grid-bar">
        <span>
          {amount(rows.length, "row")}{" "}
          {complete
            ? rows.length === 1
              ? "is all there is"
              : "are all there are"
            : `shown of ${total === undefined ? "more" : count(total)}`}
          {range
            ? `, ${amount((range.bottom - range.top + 1) * (range.right - range.left + 1), "cell")} chosen`
            : marked.size > 0 && `, ${count(marked.size)} marked`}
        </span>
        <div className="grow" />
        <Segmented
          size="small"
          aria-label="Shape"
          value={shape}
          onChange={(next: typeof shape) => {
            setShape(next);
            setActive(null);
            setAnchor(null);
          }}
          options={[
            { value: "grid", label: "Grid" },
            { value: "record", label: "One record" },
            { value: "turned", label: "Transposed" },
          ]}
        />
        <Popover trigger="click" placement="bottomRight" content={menu}>
          <Button size="small">Columns{hidden.size > 0 && ` (${hidden.size} hidden)`}</Button>
        </Popover>
        <Checkbox
          checked={guard}
          onChange={(e) => keepGuard(e.target.checked)}
          title="An apostrophe before texts and names that a spreadsheet would take for a formula, in what is copied or saved here"
        >
          Escape formulas
        </Checkbox>
        <Button size="small" onClick={() => void copy(forSpreadsheet)}>
          Copy
        </Button>
        <Button size="small" onClick={() => void copy(aligned)}>
          Copy as text table
        </Button>
        <Button size="small" onClick={save}>
          Save these rows
        </Button>
      </div>
      {shape === "record" ? (
        <div className="record">
          <div className="filters">
            <Button size="small" disabled={last <= 0} onClick={() => setLast(last - 1)}>
              Previous
            </Button>
            <span>
              row {count(last + 1)} of {count(lines.length)}
            </span>
            <Button size="small" disabled={last >= lines.length - 1} onClick={() => setLast(last + 1)}>
              Next
            </Button>
          </div>
          <dl className="facts card" tabIndex={0} aria-label={`Row ${last + 1}`}>
            {lines.length > 0 &&
              shown.map((c) => (
                <div key={c} style={{ display: "contents" }}>
                  <dt>{columns[c]!.name}</dt>
                  <dd className="mono">
                    <Value
                      cell={rows[lines[Math.min(last, lines.length - 1)]!]![c]!}
                      onOpen={() => open(lines[last]!, c)}
                    />
                  </dd>
                </div>
              ))}
          </dl>
        </div>
      ) : (
        <div
          ref={box}
          className="grid"
          role="grid"
          tabIndex={0}
          onKeyDown={keys}
          aria-rowcount={down + 1}
          aria-colcount={across + 1}
          aria-label={label}
          style={{ height: Math.min(470, down * ROW + HEAD + 14) }}
        >
          <div
            role="presentation"
            style={{ width: sideways.getTotalSize(), height: vertical.getTotalSize() + HEAD, position: "relative" }}
          >
            <div role="row" aria-rowindex={1} className="ghead" style={{ width: sideways.getTotalSize() }}>
              <div
                role="columnheader"
                aria-colindex={1}
                className="cell corner"
                style={{ width: turned ? WIDTH : NUMBER }}
              >
                {turned ? "column" : ""}
              </div>
              {sideways.getVirtualItems().map((c) => (
                <div
                  key={c.key}
                  role="columnheader"
                  aria-colindex={c.index + 2}
                  className={`cell${!turned && over === shown[c.index] ? " over" : ""}`}
                  style={{ left: c.start, width: c.size }}
                  draggable={!turned}
                  onDragStart={() => {
                    dragged.current = shown[c.index]!;
                  }}
                  onDragEnd={() => {
                    dragged.current = null;
                    setOver(null);
                  }}
                  onDragOver={(e) => {
                    if (dragged.current !== null) {
                      e.preventDefault();
                      setOver(shown[c.index]!);
                    }
                  }}
                  onDrop={() => drop(shown[c.index]!)}
                  aria-sort={
                    !turned && sort?.column === shown[c.index]
                      ? sort!.descending
                        ? "descending"
                        : "ascending"
                      : "none"
                  }
                >
                  {turned ? (
                    `row ${c.index + 1}`
                  ) : (
                    <>
                      <button
                        type="button"
                        className="plain head"
                        title="Sorts; drag to move"
                        onClick={() =>
                          setSort(
                            sort?.column !== shown[c.index]
                              ? { column: shown[c.index]!, descending: false }
                              : sort!.descending
                                ? null
                                : { ...sort!, descending: true },
                          )
                        }
                      >
                        {columns[shown[c.index]!]!.name}
                        {sort?.column === shown[c.index] && (sort!.descending ? " ↓" : " ↑")}
                      </button>
                      <span
                        className="handle"
                        aria-hidden
                        onMouseDown={(e) => e.preventDefault()}
                        onPointerDown={drag(shown[c.index]!)}
                      />
                    </>
                  )}
                </div>
              ))}
            </div>
            {vertical.getVirtualItems().map((r) => (
              <div
                key={r.key}
                role="row"
                aria-rowindex={r.index + 2}
                className={`grow${!turned && marked.has(lines[r.index]!) ? " marked" : ""}`}
                style={{ transform: `translateY(${r.start}px)`, width: sideways.getTotalSize() }}
              >
                <div
                  role="rowheader"
                  aria-colindex={1}
                  className="cell corner"
                  style={{ width: turned ? WIDTH : NUMBER }}
                >
                  {turned ? (
                    columns[shown[r.index]!]!.name
                  ) : (
                    <button
                      type="button"
                      className="plain"
                      tabIndex={-1}
                      aria-label={`Mark row ${r.index + 1}`}
                      onClick={(e) => mark(r.index, e.shiftKey)}
                    >
                      {r.index + 1}
                    </button>
                  )}
                </div>
                {sideways.getVirtualItems().map((c) => {
                  const { row, column } = cellAt(r.index, c.index);
                  const cell = rows[row]![column]!;
                  return (
                    <div
                      key={c.key}
                      role="gridcell"
                      aria-colindex={c.index + 2}
                      className={`cell${isNumber(columns[column]!, cell) ? " num" : ""}${inRange(r.index, c.index) ? " picked" : ""}${active?.[0] === r.index && active[1] === c.index ? " active" : ""}`}
                      style={{ left: c.start, width: c.size }}
                      onClick={(e) => pick(r.index, c.index, e.shiftKey)}
                    >
                      <Value cell={cell} onOpen={() => open(row, column)} />
                    </div>
                  );
                })}
              </div>
            ))}
          </div>
        </div>
      )}
      {opened && opening !== null && typeof opening !== "string" && (
        <Opened
          address={`/api/v1/queries/${id}/cells/${opened[0]}/${opened[1]}`}
          cell={opening}
          name={columns[opened[1]]!.name}
          onClose={() => setOpened(null)}
        />
      )}
    </>
  );
}
