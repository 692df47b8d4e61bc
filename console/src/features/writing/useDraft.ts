import { useEffect, useState } from "react";
import type { Extract, Output, Parameter } from "../../api/client";

/** A bound that a result must meet, as the service has it. */
export interface Guard { [setting: string]: unknown; guard: string; then: string; at_least?: number; at_most?: number; percent?: number; of_last?: number; same?: string; columns?: string[] }

/** What an author changes before it becomes a revision. `base` is the revision it was begun from. */
export interface Draft { base: number; statement: string; parameters: Parameter[]; source: string; formats: string[]; file_name: string; deliver_into: string; output: Output; guards: Guard[]; notes: string }

const keyOf = (name: string) => `unsaved:${name}`;

export function draftOf(extract: Extract): Draft {
  const { number, statement, parameters, source, formats, file_name, deliver_into, output, guards, notes } = extract.revision;
  return { base: number, statement, parameters, source, formats, file_name, deliver_into, output, guards: guards as unknown as Guard[], notes };
}

const content = (draft: Draft) => JSON.stringify({ ...draft, base: 0 });

function kept(name: string): Draft | null {
  try {
    const found = localStorage.getItem(keyOf(name));
    return found ? { ...(JSON.parse(found) as Draft), guards: (JSON.parse(found) as Partial<Draft>).guards ?? [] } : null;
  } catch {
    return null; // what cannot be read is not a draft
  }
}

/** The draft of an extract, kept in this browser until it is saved or dropped: it survives a reload and a closed page. */
export function useDraft(extract: Extract) {
  const saved = draftOf(extract);
  const [draft, setDraft] = useState<Draft>(() => kept(extract.name) ?? saved);
  const changed = content(draft) !== content(saved);
  const { name } = extract;
  useEffect(() => {
    if (changed) localStorage.setItem(keyOf(name), JSON.stringify(draft));
    else localStorage.removeItem(keyOf(name));
  }, [name, changed, draft]);
  return {
    draft,
    changed,
    stale: changed && draft.base !== extract.revision.number,
    change: (more: Partial<Draft>) => setDraft((now) => ({ ...now, ...more })),
    drop: () => { localStorage.removeItem(keyOf(name)); setDraft(draftOf(extract)); },
    became: (next: Extract) => { localStorage.removeItem(keyOf(name)); setDraft(draftOf(next)); },
  };
}
