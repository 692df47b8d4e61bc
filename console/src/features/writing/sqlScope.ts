/** What may stand at the cursor: tables, columns of the right alias, names the statement makes, parameters, keywords, words
 *  already there. Pure: text and position in, proposals out. It never runs or sends anything. */

export interface TableWords { name: string; kind: string; columns: string[][] }
export interface Proposal { label: string; apply?: string; kind: "column" | "table" | "alias" | "with" | "parameter" | "keyword" | "word"; detail: string; boost: number }
export interface Completion { from: number; proposals: Proposal[] }

interface Token { kind: "word" | "name" | "string" | "comment" | "parameter" | "mark"; text: string; from: number; to: number }
interface Group { items: (Token | Group)[]; from: number; to: number }
interface Source { alias: string; table: string; columns: string[][] }

const KEYWORDS = `select from where group by order having limit offset join left right inner outer full cross on using as and or not in is null like between exists
case when then else end distinct union all intersect except with values asc desc nulls first last over partition rows range current row count sum avg min max coalesce
cast extract interval date timestamp true false any some lateral fetch filter recursive`.split(/\s+/);
const AFTER_TABLE = new Set("where group having order limit offset fetch window on using set union intersect except join left right inner outer full cross natural lateral select values for".split(" "));
const SETS = new Set(["union", "intersect", "except"]);
const isGroup = (item: Token | Group | undefined): item is Group => item !== undefined && "items" in item;
const isName = (item: Token | Group | undefined): item is Token => item !== undefined && !isGroup(item) && (item.kind === "word" || item.kind === "name");
const word = (item: Token | Group | undefined) => (item !== undefined && !isGroup(item) && item.kind === "word" ? item.text.toLowerCase() : "");
const mark = (item: Token | Group | undefined) => (item !== undefined && !isGroup(item) && item.kind === "mark" ? item.text : "");
const plain = (token: Token) => (token.kind === "name" ? token.text : token.text.toLowerCase());

const PIECE = /--[^\n]*|\/\*[\s\S]*?(?:\*\/|$)|'(?:[^']|'')*(?:'|$)|"(?:[^"]|"")*(?:"|$)|`[^`]*(?:`|$)|\$(\w*)\$[\s\S]*?(?:\$\1\$|$)|::|:[A-Za-z_]\w*|[\p{L}_][\p{L}\p{N}_$]*|\d[\w.]*|\S/gu;

function tokens(text: string, engine: string): Token[] {
  return [...text.matchAll(PIECE)].map((found) => {
    const piece = found[0], from = found.index, to = from + piece.length;
    const start = piece[0]!;
    const kind = piece.startsWith("--") || piece.startsWith("/*") ? "comment"
      : start === "'" || (start === "$" && piece.length > 1) || (start === '"' && engine === "mariadb") ? "string"
      : start === '"' || start === "`" ? "name"
      : start === ":" && piece.length > 1 && piece !== "::" ? "parameter"
      : /[\p{L}_]/u.test(start) ? "word" : "mark";
    return { kind, text: kind === "name" ? piece.slice(1, -1) : piece, from, to };
  });
}

function grouped(found: Token[], end: number): Group {
  const root: Group = { items: [], from: 0, to: end };
  const open: Group[] = [root];
  for (const token of found) {
    if (token.kind === "comment") continue;
    const here = open.at(-1)!;
    if (token.text === "(" && token.kind === "mark") {
      const inner: Group = { items: [], from: token.to, to: end };
      here.items.push(inner);
      open.push(inner);
    } else if (token.text === ")" && token.kind === "mark" && open.length > 1) {
      here.to = token.from;
      open.pop();
    } else here.items.push(token);
  }
  return root;
}

/** The parts between semicolons or set operators. */
function branches(group: Group, cut: (item: Token | Group) => boolean): (Token | Group)[][] {
  const made: (Token | Group)[][] = [[]];
  for (const item of group.items) if (cut(item)) made.push([]); else made.at(-1)!.push(item);
  return made;
}

type Lookup = (name: string) => string[][] | undefined;
type Made = Map<string, string[][]>;

function sourcesOf(items: (Token | Group)[], lookup: Lookup, made: Made): Source[] {
  const found: Source[] = [];
  let at = items.findIndex((item) => word(item) === "from");
  if (at < 0) return found;
  for (let wanted = true; ++at < items.length; ) {
    const item = items[at]!;
    const said = word(item);
    if (said === "join" || mark(item) === ",") { wanted = true; continue; }
    if (["inner", "left", "right", "full", "outer", "cross", "natural", "lateral", "only"].includes(said)) continue;
    if (["where", "group", "having", "order", "limit", "offset", "fetch", "window"].includes(said)) break;
    if (said === "on" || said === "using") { wanted = false; continue; }
    if (!wanted) continue;
    let table = "", columns: string[][];
    if (isGroup(item)) columns = outputOf(item, lookup, made);
    else if (isName(item)) {
      table = plain(item);
      while (mark(items[at + 1]) === "." && isName(items[at + 2])) { table += `.${plain(items[at + 2] as Token)}`; at += 2; }
      columns = made.get(table) ?? lookup(table) ?? [];
      if (isGroup(items[at + 1])) at += 1; // a function that gives rows
    } else continue;
    if (word(items[at + 1]) === "as") at += 1;
    let alias = table.split(".").at(-1)!;
    const next = items[at + 1];
    if (isName(next) && !AFTER_TABLE.has(word(next))) { alias = plain(next); at += 1; }
    if (alias) found.push({ alias, table, columns });
    wanted = false;
  }
  return found;
}

/** The columns that a query in parentheses gives, as far as its text tells. */
function outputOf(group: Group, lookup: Lookup, outer: Made): string[][] {
  const made = new Map([...outer, ...madeBy(group.items, lookup, outer)]);
  const items = branches(group, (item) => SETS.has(word(item)))[0]!;
  const start = items.findLastIndex((item, n) => word(item) === "select" && !items.slice(0, n).some((before) => word(before) === "from"));
  if (start < 0) return [];
  const end = items.findIndex((item, n) => n > start && word(item) === "from");
  const columns: string[][] = [];
  let last: Token | Group | undefined, before: Token | Group | undefined;
  const push = () => {
    if (mark(last) === "*") {
      const alias = mark(before) === "." ? items[items.indexOf(last!) - 2] : undefined;
      for (const source of sourcesOf(items, lookup, made)) if (!isName(alias) || source.alias === plain(alias)) columns.push(...source.columns);
    } else if (isName(last)) columns.push([plain(last), ""]);
    last = before = undefined;
  };
  for (const item of items.slice(start + 1, end < 0 ? undefined : end)) {
    if (mark(item) === ",") push();
    else { before = last; last = item; }
  }
  push();
  return columns;
}

/** Names that `with` makes, each with its columns; later ones may use earlier ones. */
function madeBy(items: (Token | Group)[], lookup: Lookup, outer: Made): Made {
  const made: Made = new Map();
  if (word(items[0]) !== "with") return made;
  for (let at = 1; at < items.length && word(items[at]) !== "select"; at++) {
    const name = items[at];
    if (!isName(name) || word(name) === "recursive") continue;
    const named = isGroup(items[at + 1]) ? (items[at + 1] as Group).items.filter(isName).map((token) => [plain(token), ""]) : null;
    const as = at + (named ? 2 : 1);
    if (word(items[as]) !== "as") continue;
    const body = items.slice(as + 1, as + 4).find(isGroup);
    if (!body) continue;
    made.set(plain(name), named ?? outputOf(body, lookup, new Map([...outer, ...made])));
    at = items.indexOf(body);
  }
  return made;
}

/** Everything visible at a position, the innermost first. */
export function scopeAt(text: string, position: number, tables: readonly TableWords[], engine: string): { sources: Source[]; made: Made } {
  const byName = new Map(tables.flatMap((t) => [[t.name.toLowerCase(), t.columns], [t.name, t.columns]] as [string, string[][]][]));
  const lookup: Lookup = (name) => byName.get(name);
  const all = tokens(text, engine);
  const cuts = all.filter((token) => token.text === ";" && token.kind === "mark").map((token) => token.from);
  const start = cuts.filter((at) => at < position).at(-1) ?? -1;
  const stop = cuts.find((at) => at >= position) ?? text.length;
  let here: Group | undefined = grouped(all.filter((token) => token.from > start && token.to <= stop), stop);
  const chain: Group[] = [];
  while (here) {
    chain.unshift(here);
    here = here.items.find((item): item is Group => isGroup(item) && item.from <= position && position <= item.to);
  }
  const made: Made = new Map();
  for (const group of [...chain].reverse()) for (const [name, columns] of madeBy(group.items, lookup, made)) made.set(name, columns);
  const sources: Source[] = [];
  for (const group of chain) {
    const parts = branches(group, (item) => SETS.has(word(item)));
    const part = parts.findLast((items) => items.length > 0 && items[0]!.from <= position) ?? [];
    for (const source of sourcesOf(part, lookup, made)) if (!sources.some((s) => s.alias === source.alias)) sources.push(source);
  }
  return { sources, made };
}

/** The name as it must be written: quoted where its letters ask for it. */
export function written(name: string, engine: string): string {
  const parts = name.split(".").map((part) => {
    if (engine === "mariadb") return /^[\p{L}\p{N}_$]+$/u.test(part) ? part : `\`${part.replaceAll("`", "``")}\``;
    const bare = engine === "postgresql" ? /^[\p{Ll}_][\p{Ll}\p{N}_$]*$/u : /^[\p{L}_][\p{L}\p{N}_$]*$/u;
    return bare.test(part) ? part : `"${part.replaceAll('"', '""')}"`;
  });
  return parts.join(".");
}

/** Proposals at a position; null inside strings and comments, or when nothing was typed and nobody asked. */
export function completionAt(text: string, position: number, tables: readonly TableWords[], parameters: readonly string[], engine: string, asked: boolean): Completion | null {
  const all = tokens(text, engine);
  const inside = all.find((token) => token.from < position && (token.to > position || (token.to === position && token.kind === "comment" && token.text.startsWith("--"))));
  if (inside && (inside.kind === "string" || inside.kind === "comment")) return null;
  const typed = /(?:[\p{L}_][\p{L}\p{N}_$]*)?$/u.exec(text.slice(0, position))![0];
  const from = position - typed.length;
  const before = all.filter((token) => token.to <= from && token.kind !== "comment");
  const last = before.at(-1);
  if (text[from - 1] === ":" && text[from - 2] !== ":") {
    return { from, proposals: parameters.map((label) => ({ label, kind: "parameter", detail: "parameter", boost: 50 })) };
  }
  const { sources, made } = scopeAt(text, position, tables, engine);
  const column = (source: Source, boost: number) => ([name, type]: string[]): Proposal => ({ label: name!, apply: written(name!, engine), kind: "column", detail: [type, source.table || source.alias].filter(Boolean).join(", "), boost });
  if (last?.text === "." && last.to === from) {
    const owner = before.at(-2);
    if (!owner || (owner.kind !== "word" && owner.kind !== "name")) return null;
    const source = sources.find((s) => s.alias === plain(owner));
    if (source) return { from, proposals: source.columns.map(column(source, 20)) };
    const schema = `${plain(owner)}.`;
    const within = tables.filter((t) => t.name.toLowerCase().startsWith(schema.toLowerCase()));
    return within.length ? { from, proposals: within.map((t) => ({ label: t.name.slice(schema.length), apply: written(t.name.slice(schema.length), engine), kind: "table", detail: t.kind, boost: 20 })) } : null;
  }
  if (!asked && !typed) return null;
  const named: Proposal[] = [...made.keys()].map((label) => ({ label, kind: "with", detail: "made by with", boost: 8 }));
  const listed: Proposal[] = tables.map((t) => ({ label: t.name, apply: written(t.name, engine), kind: "table", detail: t.kind, boost: 0 }));
  const wantsTable = last !== undefined && ["from", "join"].includes(last.text.toLowerCase());
  if (wantsTable) return { from, proposals: [...named, ...listed.map((p) => ({ ...p, boost: 5 }))] };
  const seen = new Set<string>();
  const proposals = [
    ...sources.flatMap((source) => source.columns.map(column(source, 10))),
    ...sources.map((source): Proposal => ({ label: source.alias, apply: written(source.alias, engine), kind: "alias", detail: source.table || "sub-query", boost: 6 })),
    ...named,
    ...KEYWORDS.map((label): Proposal => ({ label, kind: "keyword", detail: "", boost: 1 })),
    ...listed,
    ...all.filter((token) => token.kind === "word" && token.text.length > 2 && !(token.from < position && token.to >= position)).map((token): Proposal => ({ label: token.text, kind: "word", detail: "in the text", boost: -5 })),
  ];
  return { from, proposals: proposals.filter(({ label, kind }) => { if (!asked && label === typed) return false; // it stands there already
    const key = kind === "word" ? label.toLowerCase() : `${kind} ${label}`; if (seen.has(key) || (kind === "word" && [...seen].some((k) => k.endsWith(` ${label.toLowerCase()}`)))) return false; seen.add(key); return true; }) };
}
