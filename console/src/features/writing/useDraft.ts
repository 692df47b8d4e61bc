import { useCallback, useEffect, useLayoutEffect, useRef, useState } from "react";
import type { Extract, KeptDraft, Output, Parameter } from "../../api/client";
import { Problem } from "../../api/client";
import type { Guard } from "../../lib/decisions";
import { unsent } from "../../lib/kept";
import { useAway } from "../../lib/service";
import { bare } from "../../lib/values";
import type { Outline } from "../outline/outline";
import type { Input } from "../inputs/inputs";
import type { Step } from "../steps/steps";
import { dropDraft, keepDraft, readDraft, type Place } from "./drafts";

/** What an author changes before it becomes a revision. `base` is the revision it was begun from; 0: none, it is new. */
export interface Draft {
  base: number;
  name?: string;
  folder?: string;
  statement: string;
  /** What the statement is put together from; none: it is by hand. */
  outline: Outline | null;
  /** What the outline compiles to; "": that is not known yet, or it does not. */
  compiled: string;
  /** What it combines, where it has no source. */
  inputs: Input[];
  /** What is done to its result. */
  steps: Step[];
  parameters: Parameter[];
  source: string;
  formats: string[];
  file_name: string;
  deliver_into: string;
  output: Output;
  guards: Guard[];
  notes: string;
}

export function draftOf(extract: Extract): Draft {
  const { number, statement, outline, inputs, steps, parameters, source, formats, ...rest } = extract.revision;
  const { file_name, deliver_into, output, guards, notes } = rest;
  return {
    base: number,
    statement,
    outline: (outline as Outline | null) ?? null,
    compiled: outline ? statement : "",
    inputs: inputs as unknown as Input[],
    steps: steps as unknown as Step[],
    parameters,
    source,
    formats,
    file_name,
    deliver_into,
    output,
    guards: guards as unknown as Guard[],
    notes,
  };
}

const content = (draft: Draft) => JSON.stringify({ ...draft, base: 0 });

/** With all fields that a parameter has today: a draft may be older than some of them. */
const completed = (draft: Draft): Draft => ({
  ...draft,
  parameters: draft.parameters.map((each) => ({ ...bare, ...each })),
});

/** A draft as the service keeps it, over what is saved: a field that is newer than the draft is as it is saved. */
export const opened = (saved: Draft, found: KeptDraft): Draft =>
  found.content ? completed({ ...saved, ...(found.content as Partial<Draft>), base: found.base ?? 0 }) : saved;

/** What the service has of it, as it is compared with what is wanted; "": nothing. */
const held = (saved: Draft, found: KeptDraft): string => (found.content ? JSON.stringify(opened(saved, found)) : "");

/** Defaults of sensitive parameters are in no store. */
function leave(place: Place, wanted: string, version: number) {
  const draft = JSON.parse(wanted) as Draft;
  const parameters = draft.parameters.map((each) => (each.sensitive ? { ...each, default: null } : each));
  unsent.leave(place, { draft, version }, { draft: { ...draft, parameters }, version });
}

const AFTER = 500;
const AGAIN = 5_000;

/** The draft of an extract, or of a new text, kept by the service for its author alone: it survives a reload, a closed page, a
 * sign-out and another machine. Of two windows the second to write is asked which of the two is meant. */
export function useDraft(place: Place, saved: Draft, begun: KeptDraft) {
  const [left] = useState(() => unsent.take<{ draft: Draft; version: number }>(place)); // what could not be sent any more
  const [draft, setDraft] = useState<Draft>(() => (left ? completed(left.draft) : opened(saved, begun)));
  const [has, setHas] = useState(() => (left ? "?" : held(saved, begun)));
  const [failures, setFailures] = useState(0);
  const [other, setOther] = useState<KeptDraft | null>(null);
  const away = useAway();
  const changed = content(draft) !== content(saved);
  const wanted = changed ? JSON.stringify(draft) : "";
  const state = useRef({
    version: left?.version ?? begun.version,
    has,
    wanted,
    other: false,
    busy: null as Promise<void> | null,
  });
  const latest = useRef(draft);
  useLayoutEffect(() => {
    latest.current = draft;
    Object.assign(state.current, { wanted, other: other !== null });
  });
  // At once, not with the next rendering: whoever signs out in between loses nothing.
  const put = useCallback(
    (next: Draft) => {
      latest.current = next;
      state.current.wanted = content(next) !== content(saved) ? JSON.stringify(next) : "";
      setDraft(next);
    },
    [saved],
  );

  const write = useCallback(async () => {
    const now = state.current;
    while (now.wanted !== now.has && !now.other) {
      const text = now.wanted;
      try {
        if (text) now.version = (await keepDraft(place, JSON.parse(text) as Draft, now.version)).version;
        else if (now.version) await dropDraft(place, now.version).then(() => (now.version = 0));
        now.has = text;
        setHas(text);
        setFailures(0);
      } catch (error) {
        if (!(error instanceof Problem) || error.code !== "edited_meanwhile") {
          setFailures((n) => n + 1);
          return;
        }
        const found = await readDraft(place).catch(() => null);
        if (!found) {
          setFailures((n) => n + 1);
          return;
        }
        now.other = true;
        setOther(found);
      }
    }
  }, [place]);
  const send = useCallback((): Promise<void> => {
    const now = state.current;
    now.busy ??= write().finally(() => (now.busy = null));
    return now.busy;
  }, [write]);

  useEffect(() => {
    if (wanted === has || other || away) return;
    const timer = setTimeout(() => void send(), failures ? AGAIN : AFTER);
    return () => clearTimeout(timer);
  }, [wanted, has, other, away, failures, send]);
  // Until the service has it the browser's own store does: a page loaded anew, also while the service is away, loses nothing.
  useEffect(() => {
    if (wanted && wanted !== has) leave(place, wanted, state.current.version);
    else unsent.drop(place);
  }, [wanted, has, place]);
  useEffect(() => {
    const pending = () => state.current.wanted !== state.current.has;
    const leaving = (event: BeforeUnloadEvent) => {
      if (!pending()) return;
      void send();
      event.preventDefault();
    };
    const look = async () => {
      if (document.visibilityState !== "visible" || state.current.busy || state.current.other) return;
      const found = await readDraft(place).catch(() => null);
      const now = state.current;
      if (!found || now.busy || found.version === now.version) return;
      if (pending()) return setOther(found);
      now.version = found.version;
      now.has = held(saved, found);
      setHas(now.has);
      put(opened(saved, found));
    };
    const visible = () => void look();
    const stop = unsent.sendBeforeSigningOut(send);
    window.addEventListener("beforeunload", leaving);
    document.addEventListener("visibilitychange", visible);
    window.addEventListener("focus", visible);
    return () => {
      stop();
      window.removeEventListener("beforeunload", leaving);
      document.removeEventListener("visibilitychange", visible);
      window.removeEventListener("focus", visible);
    };
  }, [place, saved, send, put]);
  useEffect(
    () => () => {
      const now = state.current; // of the last rendering, when the page is left
      if (now.wanted === now.has) return;
      if (now.wanted) leave(place, now.wanted, now.version);
      void send().then(() => now.wanted === now.has && unsent.drop(place));
    },
    [place, send],
  );

  const sync: "kept" | "keeping" | "waiting" = wanted === has ? "kept" : away || failures ? "waiting" : "keeping";
  return {
    draft,
    changed,
    sync,
    other,
    stale: changed && draft.base !== saved.base,
    change: (more: Partial<Draft>) => put({ ...latest.current, ...more }),
    drop: () => put(saved),
    /** Everything is with the service, or cannot be. */
    settled: send,
    /** It is a revision now; the service has dropped the draft by itself. */
    became: (next: Draft = saved) => {
      Object.assign(state.current, { version: 0, has: "" });
      setHas("");
      setDraft(next);
    },
    takeOther: () => {
      if (!other) return;
      Object.assign(state.current, { version: other.version, has: held(saved, other) });
      setHas(state.current.has);
      put(opened(saved, other));
      setOther(null);
    },
    keepMine: () => {
      if (!other) return;
      state.current.version = other.version;
      state.current.has = "?";
      setHas("?");
      setOther(null);
    },
  };
}

export type Drafting = ReturnType<typeof useDraft>;
