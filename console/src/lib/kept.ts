/** What was typed and not sent, of the person who is signed in. It is in the browser's own store, so that a reload, an upgrade and a
 * closed page lose nothing; secrets are in the memory of this page alone. All of it is gone once somebody else signs in. */
const memory = new Map<string, object>();
const senders = new Set<() => Promise<void>>();
let whose = "";

const STORE = "typed|";
const DAYS = 30;

const place = (kind: string, key: string) => `${STORE}${whose}|${kind}|${key}`;

/** The browser may have no store, or no room in it: what is typed is in memory then, as it always is. */
function stored<Found>(work: (store: Storage) => Found): Found | undefined {
  try {
    return work(localStorage);
  } catch {
    return undefined;
  }
}

function keep(kind: string, key: string, all: object, open: object) {
  memory.set(place(kind, key), all);
  if (whose) stored((store) => store.setItem(place(kind, key), JSON.stringify({ at: Date.now(), what: open })));
}

function forget(kind: string, key: string) {
  memory.delete(place(kind, key));
  stored((store) => store.removeItem(place(kind, key)));
}

function found(kind: string, key: string): object | undefined {
  const here = memory.get(place(kind, key));
  if (here || !whose) return here;
  return stored((store) => {
    const text = store.getItem(place(kind, key));
    return text ? (JSON.parse(text) as { what: object }).what : undefined;
  });
}

/** Nothing of anybody else, and nothing that is very old. */
function clean(store: Storage) {
  for (const key of Object.keys(store).filter((each) => each.startsWith(STORE))) {
    const at = (JSON.parse(store.getItem(key) ?? "{}") as { at?: number }).at ?? 0;
    if (!whose || !key.startsWith(`${STORE}${whose}|`) || Date.now() - at > DAYS * 86_400_000) store.removeItem(key);
  }
}

/** Without the values at these places, said as `settings.url`. */
export function without(values: object, secrets: Iterable<string>, before = ""): object {
  const hidden = new Set(secrets);
  const open = Object.entries(values).flatMap(([name, value]: [string, unknown]) => {
    const at = before + name;
    if (hidden.has(at)) return [];
    const nested = !!value && typeof value === "object" && !Array.isArray(value);
    return [[name, nested ? without(value, hidden, `${at}.`) : value] as const];
  });
  return Object.fromEntries(open);
}

/** Forms: a dialog that was closed, a page that was left or loaded anew has its fields again. */
export const kept = {
  of: (key: string) => found("form", key),
  /** `secrets`: places of values that are in no store. */
  keep: (key: string, values: object, secrets: Iterable<string> = []) =>
    keep("form", key, values, without(values, secrets)),
  forget: (key: string) => forget("form", key),
  isOfSomebodyBut: (name: string) => whose !== "" && whose !== name,
  /** Whose they are: of somebody else nothing is kept. */
  belongTo(name: string) {
    if (whose !== name) memory.clear();
    whose = name;
    stored(clean);
  },
};

/** Drafts that the service has not been given yet, or could not be given any more when their page was left. */
export const unsent = {
  leave: (key: string, what: object, open: object = what) => keep("draft", key, what, open),
  drop: (key: string) => forget("draft", key),
  take<What>(key: string): What | undefined {
    const left = found("draft", key);
    forget("draft", key);
    return left as What | undefined;
  },
  sendBeforeSigningOut(send: () => Promise<void>) {
    senders.add(send);
    return () => void senders.delete(send);
  },
  sendAll: () => Promise.all([...senders].map((send) => send().catch(() => undefined))),
};
