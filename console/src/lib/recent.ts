/** What a person had open last in this browser, the latest first: kept by name, so that nobody sees another's. */

export interface Recent {
  kind: string;
  name: string;
  link: string;
}

const MOST = 12;
const key = (person: string) => `recent:${person}`;

export function recentOf(person: string): Recent[] {
  try {
    const found: unknown = JSON.parse(localStorage.getItem(key(person)) ?? "[]");
    return Array.isArray(found) ? (found as Recent[]).filter((each) => each?.link && each.name) : [];
  } catch {
    return []; // of an earlier release, or not ours
  }
}

export function noteRecent(person: string, opened: Recent): void {
  const rest = recentOf(person).filter((each) => each.link !== opened.link);
  localStorage.setItem(key(person), JSON.stringify([opened, ...rest].slice(0, MOST)));
}

export const forgetRecent = (person: string): void => localStorage.removeItem(key(person));

const KINDS: Record<string, string> = { extracts: "extract", runs: "run", schedules: "schedule", sources: "source" };

/** What an address shows, where it is a page of one thing. */
export function thingAt(pathname: string, search = ""): Recent | undefined {
  const [, place, name, more] = pathname.split("/");
  const kind = KINDS[place ?? ""];
  if (!kind || !name || more) return undefined;
  const plain = decodeURIComponent(name);
  const table = kind === "source" ? new URLSearchParams(search).get("table") : null;
  if (table) {
    const wanted = new URLSearchParams({ environment: new URLSearchParams(search).get("environment") ?? "", table });
    return { kind: "table", name: table, link: `${pathname}?${wanted.toString()}` };
  }
  return { kind, name: kind === "run" ? `run ${plain}` : plain, link: pathname };
}

/** Notes what an address shows as open now. */
export function noteOpened(person: string, pathname: string, search: string): void {
  const opened = thingAt(pathname, search);
  if (opened) noteRecent(person, opened);
}
