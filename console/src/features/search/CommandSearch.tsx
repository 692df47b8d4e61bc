import { useDeferredValue, useEffect, useId, useRef, useState, type KeyboardEvent } from "react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Input, type InputRef } from "antd";
import { useNavigate } from "react-router";
import { api, must } from "../../api/client";
import { Dialog } from "../../components/Dialog";
import { ProblemNote } from "../../components/ProblemNote";
import { Marked } from "../browse/Value";
import { recentOf, type Recent } from "../../lib/recent";
import "./search.css";

export interface Command {
  name: string;
  run: () => void;
}

interface Entry {
  kind: string;
  name: string;
  within?: string;
  detail?: string;
  run: () => void;
}

interface Props {
  person: string;
  /** Address and name; what more they have is not looked at. */
  pages: readonly (readonly [string, string, ...string[]])[];
  may: (role: string) => boolean;
  others: Command[];
  onClose: () => void;
}

/** What can be begun from anywhere: name, address, and the role that may. */
const begun = [
  ["New extract", () => `/new-extract/${crypto.randomUUID()}`, "author"],
  ["Add schedule", () => "/new-schedule", "author"],
  ["Add source", () => "/new-source", "administrator"],
  ["Add channel", () => "/new-channel", "administrator"],
] as const;
const holds = (name: string, words: string[]) => words.every((word) => name.toLowerCase().includes(word));
/** How late somebody had it open; what was not is after all that was. */
const lateness = (recent: Recent[], link: string) => {
  const place = recent.findIndex((each) => each.link === link);
  return place < 0 ? recent.length : place;
};

/** One field that finds whatever has a name, and what can be done; what was open last stands first. By keyboard alone. */
export function CommandSearch({ person, pages, may, others, onClose }: Props) {
  const go = useNavigate();
  const list = useId();
  const field = useRef<InputRef>(null);
  const [typed, setTyped] = useState("");
  const [at, setAt] = useState(0);
  const text = useDeferredValue(typed.trim());
  const words = typed.trim().toLowerCase().split(/\s+/).filter(Boolean);
  const found = useQuery({
    queryKey: ["find", text],
    enabled: text !== "",
    staleTime: 10_000,
    placeholderData: keepPreviousData,
    queryFn: () => must(api.GET("/api/v1/find", { params: { query: { text } } })),
  });
  useEffect(() => field.current?.focus(), []);
  const to = (link: string) => () => void go(link);
  const recent = recentOf(person);
  const things: Entry[] = words.length
    ? [...(found.data ?? [])]
        .map((each, place) => ({ each, place: lateness(recent, each.link) * 1_000 + place }))
        .sort((a, b) => a.place - b.place)
        .map(({ each }) => ({ ...each, run: to(each.link) }))
    : recent.map((each) => ({ kind: each.kind, name: each.name, detail: "open lately", run: to(each.link) }));
  const other: Entry[] = [
    ...pages.map(([link, name]) => ({ kind: "page", name, run: to(link) })),
    { kind: "page", name: "Your account", run: to("/account") },
    ...begun
      .filter(([, , role]) => may(role))
      .map(([name, link]) => ({ kind: "command", name, run: () => void go(link()) })),
    ...others.map((each) => ({ kind: "command", ...each })),
  ].filter((each) => holds(each.name, words));
  const begins = (each: Entry) => words.length > 0 && each.name.toLowerCase().startsWith(words.join(" "));
  const entries = [...other.filter(begins), ...things, ...other.filter((each) => !begins(each))];
  const chosen = Math.min(at, entries.length - 1);
  const take = (entry: Entry | undefined) => {
    if (!entry) return;
    onClose();
    entry.run();
  };
  const keys = (event: KeyboardEvent) => {
    const last = entries.length - 1;
    const next: Record<string, number> = {
      ArrowDown: chosen === last ? 0 : chosen + 1,
      ArrowUp: chosen <= 0 ? last : chosen - 1,
      PageDown: Math.min(chosen + 8, last),
      PageUp: Math.max(chosen - 8, 0),
    };
    if (event.key in next) {
      setAt(next[event.key]!);
      document.getElementById(`${list}-${next[event.key]}`)?.scrollIntoView({ block: "nearest" });
    } else if (event.key === "Enter") take(entries[chosen]);
    else return;
    event.preventDefault();
  };
  return (
    <Dialog what="The search" title="Find or do" footer={null} width={680} onCancel={onClose}>
      <Input
        ref={field}
        role="combobox"
        aria-label="Find or do"
        aria-expanded
        aria-controls={list}
        aria-activedescendant={entries.length ? `${list}-${chosen}` : undefined}
        aria-autocomplete="list"
        placeholder="An extract, a run, a schedule, a source, a table, a column, a file, a page, a command"
        value={typed}
        onChange={(event) => {
          setTyped(event.target.value);
          setAt(0);
        }}
        onKeyDown={keys}
      />
      <ProblemNote error={found.error} />
      <ul id={list} role="listbox" aria-label="Found" className="found">
        {entries.map((entry, place) => (
          <li
            key={`${entry.kind} ${entry.name} ${entry.within ?? ""} ${entry.detail ?? ""}`}
            id={`${list}-${place}`}
            role="option"
            aria-selected={place === chosen}
            onMouseMove={() => place !== chosen && setAt(place)}
            onClick={() => take(entry)}
          >
            <span className="dim">{entry.kind}</span>
            <span>
              <b>
                <Marked text={entry.name} find={words.length === 1 ? words[0]! : ""} />
              </b>
              {entry.within && <span className="dim"> in {entry.within}</span>}
            </span>
            <span className="dim">{entry.detail}</span>
          </li>
        ))}
      </ul>
      <p className="dim" aria-live="polite">
        {!entries.length && !found.isFetching && words.length > 0
          ? "Nothing is called that. Try a part of the name."
          : words.length || recent.length
            ? "Arrow keys choose, Enter opens, Escape closes."
            : "Type a part of a name. What you open is listed here the next time."}
      </p>
    </Dialog>
  );
}
