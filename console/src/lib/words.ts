/** Numbers, moments and durations as a person reads them. Pure. */

const numbers = new Intl.NumberFormat("en-GB");
export const count = (n: number | null | undefined): string =>
  n === null || n === undefined ? "–" : numbers.format(n);

const two = (n: number): string => String(n).padStart(2, "0");

/** Local date and time of an ISO moment, to the minute. */
export function moment(iso: string | null | undefined): string {
  if (!iso) return "–";
  const d = new Date(iso);
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${two(d.getHours())}:${two(d.getMinutes())}`;
}

/** Date and time of an ISO moment as the clocks of that zone show it. */
export function momentIn(iso: string, zone: string): string {
  const form: Intl.DateTimeFormatOptions = {
    year: "numeric",
    month: "2-digit",
    day: "2-digit",
    hour: "2-digit",
    minute: "2-digit",
    hourCycle: "h23",
  };
  let clocks: Intl.DateTimeFormat;
  try {
    clocks = new Intl.DateTimeFormat("en-GB", { ...form, timeZone: zone });
  } catch {
    return `${momentIn(iso, "UTC")} UTC`; // a zone that is being typed, or that this browser does not know
  }
  const parts = clocks.formatToParts(new Date(iso));
  const part = (type: string) => parts.find((p) => p.type === type)?.value ?? "";
  return `${part("year")}-${part("month")}-${part("day")} ${part("hour")}:${part("minute")}`;
}

/** The moment at which a day begins here, or the one so many days after it; undefined for what is no day. */
export function beginOf(day: string, later = 0): string | undefined {
  const parts = /^(\d{4})-(\d{2})-(\d{2})$/.exec(day);
  return parts ? new Date(Number(parts[1]), Number(parts[2]) - 1, Number(parts[3]) + later).toISOString() : undefined;
}

export const clock = (iso: string): string => {
  const d = new Date(iso);
  return `${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}`;
};

/** "4.2 s", "12 min 05 s", "3 h 07 min". */
export function took(from: string | null, to: string | null): string {
  if (!from) return "–";
  const seconds = ((to ? Date.parse(to) : Date.now()) - Date.parse(from)) / 1000;
  if (seconds < 60) return `${Math.max(seconds, 0).toFixed(1)} s`;
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ${two(Math.floor(seconds % 60))} s`;
  return `${Math.floor(seconds / 3600)} h ${two(Math.floor((seconds % 3600) / 60))} min`;
}

/** "1 row", "20,000 rows": of nouns whose plural takes an s. */
export const amount = (n: number, noun: string): string => `${count(n)} ${noun}${n === 1 ? "" : "s"}`;

/** "34.3 MB", in powers of 1,000. */
export function size(bytes: number): string {
  const units = ["bytes", "kB", "MB", "GB", "TB"];
  let n = bytes;
  let unit = 0;
  while (n >= 1000 && unit < units.length - 1) {
    n /= 1000;
    unit += 1;
  }
  return unit ? `${n.toFixed(1)} ${units[unit]}` : `${count(n)} bytes`;
}

/** Where an address leads; that there is one, to those who may not see it. */
export const placeOf = ({ place }: { place: string }): string => place || "address shown to authors";

/** What stands where a reader or runner sees nothing. */
export const FOR_AUTHORS = "The statement is shown to authors.";

/** A code as a sentence has it: "not run" for not_run. */
export const spaced = (code: string): string => code.replaceAll("_", " ");

/** A code as a choice or a heading has it: "Not run" for not_run. */
export const titled = (code: string): string => code.charAt(0).toUpperCase() + spaced(code.slice(1));

/** Words of an error as a sentence begins. Names, codes and quoted text at its beginning stay as they are. */
export const sentence = (text: string): string =>
  /^[a-z]+[ ,;]/.test(text) ? text[0]!.toUpperCase() + text.slice(1) : text;

/** Whether readers have a run's result: it is one that is published, it is there, and nothing keeps it back. */
export function publishedWords(run: { published: boolean; held: string; state: string; delivery: string }): string {
  if (!run.published) return "no: a trial";
  if (run.held === "held") return "not before it is released";
  if (run.held === "rejected") return "no: it is rejected";
  if (run.state !== "finished") return `no: it is ${spaced(run.state)}`;
  if (run.delivery === "failed") return "yes; not delivered";
  return ["waiting", "in_progress"].includes(run.delivery) ? "yes; not delivered yet" : "yes";
}
