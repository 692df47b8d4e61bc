import { memo, useEffect, useRef, useState, type KeyboardEvent, type MouseEvent, type PointerEvent } from "react";
import { useVirtualizer, type VirtualItem } from "@tanstack/react-virtual";
import { isNumber, plain, type Cell, type GridColumn } from "../../lib/grid";
import { StepMenu } from "../steps/StepMenu";
import { Value } from "./Value";

const ROW = 25;
const HEAD = 28;
const NUMBER = 56;
const WIDTH = 150;
/** In so many places that many are drawn, which are used again and again: what scrolls in takes over what scrolled out. */
const places = (drawn: number) => Math.ceil(drawn / 4) * 4;

/** A letter is less wide than that; of others than these nobody knows. */
const LETTER = 7.8;
const ASCII = /^[ -~]*$/;

export interface SortedBy {
  column: number;
  descending: boolean;
}
export interface Range {
  top: number;
  bottom: number;
  left: number;
  right: number;
}
interface Props {
  columns: GridColumn[];
  rows: Cell[][];
  /** Places of the rows, in the order in which they are shown; of the columns likewise. */
  lines: number[];
  shown: number[];
  turned: boolean;
  widths: Record<number, number>;
  sort: SortedBy | null;
  marked: Set<number>;
  active: [number, number] | null;
  range: Range | null;
  /** What is marked wherever it stands. */
  find: string;
  label: string;
  onWidth: (column: number, width: number) => void;
  onSort: (sort: SortedBy | null) => void;
  onMark: (line: number, extend: boolean) => void;
  onPick: (down: number, across: number, extend: boolean) => void;
  onOpen: (row: number, column: number) => void;
  onMove: (column: number, target: number) => void;
  onCopy: () => void;
  onStep?: ((kind: string, column: GridColumn) => void) | undefined;
}

/** Does it surely fit into its column? Cutting off costs a clip for each cell, which most do not need. */
const fits = (cell: Cell, width: number) =>
  cell === null || (typeof cell === "string" && cell.length * LETTER < width - 16 && ASCII.test(cell));

interface LineProps extends Pick<Props, "columns" | "rows" | "lines" | "shown" | "turned" | "find"> {
  index: number;
  start: number;
  width: number;
  items: VirtualItem[];
  marked: boolean;
  /** The chosen cell, and the first and last of those chosen together; -1: none in this line. */
  active: number;
  from: number;
  to: number;
}

/** One line of the grid. It is drawn anew only when something of it has changed: while one scrolls, nothing has. */
const Line = memo(function Line({
  columns,
  rows,
  lines,
  shown,
  turned,
  find,
  index,
  start,
  width,
  items,
  ...more
}: LineProps) {
  return (
    <div
      role="row"
      aria-rowindex={index + 2}
      data-down={index}
      className={`grow${more.marked ? " marked" : ""}`}
      style={{ top: HEAD + start, width }}
    >
      <div role="rowheader" aria-colindex={1} className="cell corner" style={{ width: turned ? WIDTH : NUMBER }}>
        {turned ? (
          columns[shown[index]!]!.name
        ) : (
          <button type="button" className="plain mark" tabIndex={-1} aria-label={`Mark row ${index + 1}`}>
            {index + 1}
          </button>
        )}
      </div>
      {items.map((c) => {
        const row = lines[turned ? c.index : index]!;
        const column = shown[turned ? index : c.index]!;
        const cell = rows[row]![column]!;
        const picked = c.index >= more.from && c.index <= more.to;
        return (
          <div
            key={c.index % places(items.length)}
            role="gridcell"
            aria-colindex={c.index + 2}
            data-across={c.index}
            className={`cell${fits(cell, c.size) ? "" : " cut"}${isNumber(columns[column]!, cell) ? " num" : ""}${picked ? " picked" : ""}${more.active === c.index ? " active" : ""}`}
            style={{ left: c.start, width: c.size }}
          >
            <Value cell={cell} find={find} />
          </div>
        );
      })}
    </div>
  );
});

/** The window onto rows and columns: only what is in sight is there. Its keys and clicks are told to whoever holds the rows. */
export function GridBox({
  columns,
  rows,
  lines,
  shown,
  turned,
  widths,
  sort,
  marked,
  active,
  range,
  find,
  label,
  ...on
}: Props) {
  const box = useRef<HTMLDivElement>(null);
  const dragged = useRef<number | null>(null);
  const [over, setOver] = useState<number | null>(null);
  const [aside, setAside] = useState(false);
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
    overscan: 2,
    useFlushSync: false, // both directions in one drawing
  });
  const sideways = useVirtualizer({
    horizontal: true,
    count: across,
    getScrollElement: () => box.current,
    estimateSize: width,
    overscan: 2,
    useFlushSync: false,
    paddingStart: turned ? WIDTH : NUMBER,
  });
  useEffect(() => sideways.measure(), [sideways, widths, shown.join(), turned]); // eslint-disable-line react-hooks/exhaustive-deps
  const [activeDown, activeAcross] = active ?? [-1, -1];
  useEffect(() => {
    if (activeDown < 0) return;
    vertical.scrollToIndex(activeDown);
    sideways.scrollToIndex(activeAcross);
  }, [vertical, sideways, activeDown, activeAcross]);
  const cellAt = (r: number, c: number): [number, number] => (turned ? [lines[c]!, shown[r]!] : [lines[r]!, shown[c]!]);
  const drop = (target: number) => {
    const column = dragged.current;
    if (column !== null && column !== target) on.onMove(column, target);
    dragged.current = null;
    setOver(null);
  };
  const drag = (column: number) => (pressed: PointerEvent) => {
    const start = pressed.clientX;
    const before = width(shown.indexOf(column));
    const target = pressed.currentTarget;
    target.setPointerCapture(pressed.pointerId);
    const follow = (event: Event) =>
      on.onWidth(column, Math.max(50, before + (event as globalThis.PointerEvent).clientX - start));
    target.addEventListener("pointermove", follow);
    target.addEventListener("pointerup", () => target.removeEventListener("pointermove", follow), { once: true });
  };
  const keys = (event: KeyboardEvent) => {
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
      on.onPick(...next, event.shiftKey);
    } else if (event.key === " " && !turned) on.onMark(r, event.shiftKey);
    else if (event.key === "Enter" && active) on.onOpen(...cellAt(r, c));
    else if (event.key === "c" && (event.ctrlKey || event.metaKey)) on.onCopy();
    else return;
    event.preventDefault();
  };
  const clicked = (event: MouseEvent) => {
    const target = event.target as HTMLElement;
    const line = target.closest<HTMLElement>("[data-down]");
    if (!line) return;
    const r = Number(line.dataset.down);
    if (target.closest(".mark")) return on.onMark(r, event.shiftKey);
    const cell = target.closest<HTMLElement>("[data-across]");
    if (!cell) return;
    const c = Number(cell.dataset.across);
    on.onPick(r, c, event.shiftKey);
    if (target.closest(".open")) on.onOpen(...cellAt(r, c));
  };
  const items = sideways.getVirtualItems();
  const drawn = vertical.getVirtualItems();
  const whole = sideways.getTotalSize();
  return (
    <div
      ref={box}
      className={`grid${aside ? " aside" : ""}`}
      onScroll={(e) => setAside(e.currentTarget.scrollLeft > 0)}
      role="grid"
      tabIndex={0}
      onKeyDown={keys}
      onClick={clicked}
      aria-rowcount={down + 1}
      aria-colcount={across + 1}
      aria-label={label}
      style={{ height: Math.min(470, down * ROW + HEAD + 14) }}
    >
      <div role="presentation" style={{ width: whole, height: vertical.getTotalSize() + HEAD, position: "relative" }}>
        <div role="row" aria-rowindex={1} className="ghead" style={{ width: whole }}>
          <div role="columnheader" aria-colindex={1} className="cell corner" style={{ width: turned ? WIDTH : NUMBER }}>
            {turned ? "column" : ""}
          </div>
          {items.map((c) => {
            const column = shown[c.index]!;
            const by = !turned && sort?.column === column ? sort : null;
            return (
              <div
                key={c.index % places(items.length)}
                role="columnheader"
                aria-colindex={c.index + 2}
                className={`cell${!turned && over === column ? " over" : ""}`}
                style={{ left: c.start, width: c.size }}
                draggable={!turned}
                onDragStart={() => {
                  dragged.current = column;
                }}
                onDragEnd={() => {
                  dragged.current = null;
                  setOver(null);
                }}
                onDragOver={(e) => {
                  if (dragged.current === null) return;
                  e.preventDefault();
                  setOver(column);
                }}
                onDrop={() => drop(column)}
                aria-sort={by ? (by.descending ? "descending" : "ascending") : "none"}
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
                        on.onSort(
                          !by ? { column, descending: false } : by.descending ? null : { column, descending: true },
                        )
                      }
                    >
                      {columns[column]!.name}
                      {by && (by.descending ? " ↓" : " ↑")}
                    </button>
                    {on.onStep && <StepMenu column={columns[column]!} onStep={on.onStep} />}
                    <span
                      className="handle"
                      aria-hidden
                      onMouseDown={(e) => e.preventDefault()}
                      onPointerDown={drag(column)}
                    />
                  </>
                )}
              </div>
            );
          })}
        </div>
        {drawn.map((r) => {
          const chosen = range && r.index >= range.top && r.index <= range.bottom;
          return (
            <Line
              key={r.index % places(drawn.length)}
              {...{ columns, rows, lines, shown, turned, find, items }}
              index={r.index}
              start={r.start}
              width={whole}
              marked={!turned && marked.has(lines[r.index]!)}
              active={active?.[0] === r.index ? active[1] : -1}
              from={chosen ? range.left : -1}
              to={chosen ? range.right : -1}
            />
          );
        })}
      </div>
    </div>
  );
}
