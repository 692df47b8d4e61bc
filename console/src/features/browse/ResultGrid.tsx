import { useEffect, useMemo, useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { App, Button, Checkbox, Popover, Segmented, Select } from "antd";
import { api, must, type Profile } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import {
  aligned,
  asCsv,
  forSpreadsheet,
  guarded,
  hitsIn,
  isNumber,
  plain,
  sorted,
  type Cell,
  type GridColumn,
} from "../../lib/grid";
import { amount, count } from "../../lib/words";
import { GridBox, type SortedBy } from "./GridBox";
import { FindBar } from "./FindBar";
import { OpenedValue } from "./OpenedValue";
import { ProfileView } from "./ProfileView";
import { Value } from "./Value";
import "./browse.css";

const GUARD = "guard-formulas";

interface Props {
  /** Of the query that brought them; empty: none did. */
  id: string;
  columns: GridColumn[];
  rows: Cell[][];
  complete: boolean;
  total?: number | undefined;
  label: string;
  /** Told of the columns that are shown, in their order; undefined: all, as they came. */
  onShown?: (columns: string[] | undefined) => void;
  /** A header offers to do something with its column. */
  onStep?: (kind: string, column: GridColumn) => void;
  /** A column of all that these rows are the first of at a glance, and what is said of which; else it is of these rows. */
  profile?: { of: string; ask: (column: string) => Promise<Profile> };
}

const ofQuery = (id: string) => (column: string) =>
  must(api.GET("/api/v1/queries/{number}/profile", { params: { path: { number: id }, query: { column } } }));

/** Rows of a look: sorted on what is loaded, columns hidden, moved and sized, one record, transposed; copied or saved small. */
export function ResultGrid({ id, columns, rows, complete, total, label, profile, onShown, onStep }: Props) {
  const { message } = App.useApp();
  const [shape, setShape] = useState<"grid" | "record" | "turned">("grid");
  const [sort, setSort] = useState<SortedBy | null>(null);
  const [order, setOrder] = useState<number[]>(() => columns.map((_, i) => i));
  const [hidden, setHidden] = useState<Set<number>>(new Set());
  const [widths, setWidths] = useState<Record<number, number>>({});
  const [marked, setMarked] = useState<Set<number>>(new Set());
  const [last, setLast] = useState(0);
  const [guard, setGuard] = useState(() => localStorage.getItem(GUARD) === "yes");
  const [active, setActive] = useState<[number, number] | null>(null);
  const [anchor, setAnchor] = useState<[number, number] | null>(null);
  const [opened, setOpened] = useState<[number, number] | null>(null);
  const [find, setFind] = useState("");
  const [hit, setHit] = useState(-1);
  const [told, setTold] = useState<string | undefined>(undefined);
  const asks = profile ?? (id ? { of: `of the ${amount(rows.length, "row")} shown`, ask: ofQuery(id) } : undefined);
  const glance = useQuery({
    queryKey: ["profile", id || label, asks?.of, told],
    enabled: told !== undefined && !!asks,
    staleTime: Infinity,
    queryFn: () => asks!.ask(told!),
  });
  const formats = useQuery({
    queryKey: ["formats"],
    enabled: !!id,
    staleTime: Infinity,
    queryFn: () => must(api.GET("/api/v1/formats")),
  });
  const lines = useMemo(
    () => (sort ? sorted(rows, sort.column, sort.descending) : rows.map((_, i) => i)),
    [rows, sort],
  );
  const shown = useMemo(() => order.filter((i) => !hidden.has(i)), [order, hidden]);
  useEffect(() => {
    const asItCame = shown.length === columns.length && shown.every((column, place) => column === place);
    onShown?.(asItCame ? undefined : shown.map((column) => columns[column]!.name));
  }, [onShown, shown, columns]);
  const hits = useMemo(() => hitsIn(rows, lines, shown, find), [rows, lines, shown, find]);
  const turned = shape === "turned";
  const range =
    active && anchor && (active[0] !== anchor[0] || active[1] !== anchor[1])
      ? {
          top: Math.min(active[0], anchor[0]),
          bottom: Math.max(active[0], anchor[0]),
          left: Math.min(active[1], anchor[1]),
          right: Math.max(active[1], anchor[1]),
        }
      : null;
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
    return {
      places: across_,
      picked,
      heads: across_.map((i) => columns[i]!),
      body: picked.map((r) => across_.map((c) => rows[r]![c]!)),
    };
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
  const download = (blob: Blob, name: string) => {
    const link = document.createElement("a");
    link.href = URL.createObjectURL(blob);
    link.download = name;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  const named = `${label.replace(/\W+/g, "-")}-look`;
  const save = async (format: string, extension: string) => {
    const { heads, body, picked, places } = chosen();
    if (!id) return download(new Blob([asCsv(heads, body, guard)], { type: "text/csv" }), `${named}.csv`);
    try {
      const made = await must(
        api.POST("/api/v1/queries/{number}/file", {
          params: { path: { number: id } },
          body: { format, rows: picked, columns: places, escape_formulas: guard },
          parseAs: "blob",
        }),
      );
      download(made, `${named}${extension}`);
    } catch (error) {
      void message.error(error instanceof Error ? error.message : String(error));
    }
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
  };
  const copyChosen = () => {
    if (range || marked.size || !active) return void copy(forSpreadsheet);
    const [row, column] = turned ? [lines[active[1]]!, shown[active[0]]!] : [lines[active[0]]!, shown[active[1]]!];
    const cell = rows[row]![column]!;
    void navigator.clipboard
      .writeText(guard && !isNumber(columns[column]!, cell) ? guarded(plain(cell)) : plain(cell))
      .then(() => message.success("Copied one cell."));
  };
  const open = (row: number, column: number) => setOpened([row, column]);
  const goToHit = (at: number) => {
    setHit(at);
    const [row, column] = hits[at]!;
    if (shape === "record") setLast(row);
    const place: [number, number] = turned ? [column, row] : [row, column];
    setAnchor(place);
    setActive(place);
  };
  const searched = (text: string) => {
    setFind(text);
    setHit(-1);
  };
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
        <Button size="small" onClick={() => void save("csv", ".csv")}>
          {marked.size && !range ? `Save ${amount(marked.size, "marked row")}` : "Save these rows"}
        </Button>
        {id && (
          <Select<string | null>
            size="small"
            showSearch={{ optionFilterProp: "label" }}
            aria-label="Save these rows as"
            placeholder="as…"
            style={{ width: 84 }}
            value={null}
            options={(formats.data?.formats ?? []).map((each) => ({ value: each.name, label: each.name }))}
            onChange={(format) => {
              const known = formats.data?.formats.find((each) => each.name === format);
              if (known) void save(known.name, known.extension);
            }}
          />
        )}
      </div>
      <div className="filters grid-bar">
        <FindBar
          find={find}
          hits={hits}
          at={hit}
          onFind={searched}
          onGo={goToHit}
          onMarkAll={() => setMarked(new Set([...marked, ...hits.map(([row]) => lines[row]!)]))}
        />
        {asks && (
          <Select
            size="small"
            allowClear
            showSearch={{ optionFilterProp: "label" }}
            aria-label="Profile of a column"
            placeholder="Profile of a column"
            style={{ width: 170 }}
            loading={glance.isFetching}
            value={told}
            onChange={(next: string | undefined) => setTold(next)}
            options={columns.map((each) => ({ value: each.name, label: each.name }))}
          />
        )}
      </div>
      <ProblemNote error={glance.error} />
      {told !== undefined && glance.data && <ProfileView profile={glance.data} of={asks!.of} />}
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
                      find={find}
                      onOpen={() => open(lines[last]!, c)}
                    />
                  </dd>
                </div>
              ))}
          </dl>
        </div>
      ) : (
        <GridBox
          columns={columns}
          rows={rows}
          lines={lines}
          shown={shown}
          turned={turned}
          widths={widths}
          sort={sort}
          marked={marked}
          active={active}
          range={range}
          find={find}
          label={label}
          onWidth={(column, width) => setWidths((now) => ({ ...now, [column]: width }))}
          onSort={setSort}
          onMark={mark}
          onPick={pick}
          onOpen={open}
          onMove={(column, target) => move(column, order.indexOf(target) - order.indexOf(column))}
          onCopy={copyChosen}
          onStep={onStep}
        />
      )}
      {opened && opening !== null && typeof opening !== "string" && (
        <OpenedValue
          address={`/api/v1/queries/${id}/cells/${opened[0]}/${opened[1]}`}
          cell={opening}
          name={columns[opened[1]]!.name}
          onClose={() => setOpened(null)}
        />
      )}
    </>
  );
}
