import { useMemo, useRef, useState } from "react";
import { useVirtualizer } from "@tanstack/react-virtual";
import { Checkbox, Input } from "antd";
import { count } from "../../lib/words";
import type { TableFamily } from "../../api/client";

export interface TreeTable {
  name: string;
  kind: string;
  rows_about: number | null;
  comment: string;
}

const LINE = 24;

type Entry = { schema: string } | { table: TreeTable; shown: string; of?: boolean };

/** A family stands for its tables, until it or one of them is chosen, or somebody looks for a word. */
function entries(tables: TreeTable[], families: TableFamily[], chosen: string, word: string): Entry[] {
  const bySchema = new Map<string, Entry[]>();
  const familyOf = new Map(
    families.flatMap((family) => family.members.map((member) => [member.name, family] as const)),
  );
  const said = new Set<string>();
  for (const table of tables) {
    const dot = table.name.indexOf(".");
    const schema = dot < 0 ? "" : table.name.slice(0, dot);
    const put = (entry: Entry) => {
      if (!bySchema.has(schema)) bySchema.set(schema, []);
      bySchema.get(schema)!.push(entry);
    };
    const family = word ? undefined : familyOf.get(table.name);
    if (family && !said.has(family.name)) {
      said.add(family.name);
      const comment = `${family.members.length} tables`;
      put({ table: { ...family, kind: "family", comment }, shown: family.name.slice(dot + 1) });
    }
    const open = !family || chosen === family.name || family.members.some((member) => member.name === chosen);
    if (open && table.name.toLowerCase().includes(word))
      put({ table, shown: table.name.slice(dot + 1), ...(family ? { of: true } : {}) });
  }
  return [...bySchema].flatMap(([schema, found]) => (schema ? [{ schema }, ...found] : found));
}

/** Tables by schema; only the lines in sight are drawn, so that thousands scroll like ten. Arrow keys move, Enter opens. */
export function Tree({
  tables,
  families,
  chosen,
  onChoose,
  ticked,
  onTick,
}: {
  tables: TreeTable[];
  families: TableFamily[];
  chosen: string;
  onChoose: (name: string) => void;
  /** Names that are ticked; undefined: none can be. */
  ticked: ReadonlySet<string> | undefined;
  onTick: (name: string, ticked: boolean) => void;
}) {
  const [word, setWord] = useState("");
  const box = useRef<HTMLDivElement>(null);
  const lines = useMemo(
    () => entries(tables, families, chosen, word.trim().toLowerCase()),
    [tables, families, chosen, word],
  );
  // eslint-disable-next-line react-hooks/incompatible-library
  const visible = useVirtualizer({
    count: lines.length,
    getScrollElement: () => box.current,
    estimateSize: () => LINE,
    overscan: 10,
  });
  const step = (event: React.KeyboardEvent) => {
    const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    const at = (event.target as HTMLElement).closest<HTMLElement>("[data-line]")?.dataset.line;
    if (!by || at === undefined) return;
    event.preventDefault();
    let next = Number(at) + by;
    while (lines[next] && "schema" in lines[next]!) next += by;
    if (!lines[next]) return;
    visible.scrollToIndex(next);
    requestAnimationFrame(() => box.current?.querySelector<HTMLElement>(`[data-line="${next}"]`)?.focus());
  };
  return (
    <nav className="tree" aria-label="Tables">
      <Input
        size="small"
        allowClear
        aria-label="Find a table"
        placeholder={`Find in ${count(tables.length)} tables`}
        value={word}
        onChange={(e) => setWord(e.target.value)}
      />
      <div ref={box} className="tree-lines" onKeyDown={step} style={{ height: `min(62vh, ${lines.length * LINE}px)` }}>
        <ul style={{ height: visible.getTotalSize() }}>
          {visible.getVirtualItems().map(({ index, start }) => {
            const line = lines[index]!;
            return (
              <li key={index} style={{ transform: `translateY(${start}px)` }}>
                {"schema" in line ? (
                  <h3>{line.schema}</h3>
                ) : ticked && line.table.kind !== "family" ? (
                  <Checkbox
                    className="tick"
                    checked={ticked.has(line.table.name)}
                    onChange={(event) => onTick(line.table.name, event.target.checked)}
                  >
                    {line.shown}
                  </Checkbox>
                ) : (
                  <button
                    type="button"
                    data-line={index}
                    aria-current={line.table.name === chosen}
                    title={line.table.comment}
                    onClick={() => onChoose(line.table.name)}
                  >
                    <span className={line.of ? "of-family" : undefined}>{line.shown}</span>
                    <small>
                      {line.table.kind === "view"
                        ? "view"
                        : line.table.rows_about === null
                          ? ""
                          : count(line.table.rows_about)}
                    </small>
                  </button>
                )}
              </li>
            );
          })}
        </ul>
      </div>
      {!lines.length && <p className="dim">No table of that name.</p>}
    </nav>
  );
}
