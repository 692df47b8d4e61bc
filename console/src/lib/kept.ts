/** What was typed and not sent. It stays in the memory of this page alone, passwords among it, and is gone with whoever typed
 * it. */
const forms = new Map<string, object>();
const drafts = new Map<string, object>();
const senders = new Set<() => Promise<void>>();
let whose = "";

/** Forms: a dialog that was closed, or failed, has its fields again. */
export const kept = {
  of: (key: string) => forms.get(key),
  keep: (key: string, values: object) => void forms.set(key, values),
  forget: (key: string) => void forms.delete(key),
  isOfSomebodyBut: (name: string) => whose !== "" && whose !== name,
  /** Whose they are: of somebody else nothing is kept. */
  belongTo(name: string) {
    if (whose !== name) {
      forms.clear();
      drafts.clear();
    }
    whose = name;
  },
};

/** Drafts that the service could not be given any more when their page was left, as when a session has ended. */
export const unsent = {
  leave: (place: string, what: object) => void drafts.set(place, what),
  take<What>(place: string): What | undefined {
    const found = drafts.get(place);
    drafts.delete(place);
    return found as What | undefined;
  },
  sendBeforeSigningOut(send: () => Promise<void>) {
    senders.add(send);
    return () => void senders.delete(send);
  },
  sendAll: () => Promise.all([...senders].map((send) => send().catch(() => undefined))),
};
