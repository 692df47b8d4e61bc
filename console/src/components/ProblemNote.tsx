import { useEffect, useRef } from "react";
import { Link } from "react-router";
import { Problem } from "../api/client";
import { useAway } from "../lib/service";
import { sentence } from "../lib/words";

/** An error: the cause, and what to do next. While the service is away the bar above the page says so, for all of them.
 * ``shown``: bring it into view and to the keyboard, as for a form that was refused. */
export function ProblemNote({ error, shown = false }: { error: unknown; shown?: boolean }) {
  const away = useAway();
  const note = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!error || !shown || !note.current) return;
    note.current.scrollIntoView({ block: "nearest" });
    note.current.focus({ preventScroll: true });
  }, [error, shown]);
  const lost = error instanceof Problem && (error.status === 0 || error.code === "service_away");
  if (!error || (lost && away && !shown)) return null;
  const message = lost
    ? "Not done: the service did not answer."
    : error instanceof Error
      ? error.message
      : "Something went wrong.";
  const hint = lost
    ? away
      ? "What you typed stays here; send it when the service is back."
      : "It is back now: try again."
    : error instanceof Problem
      ? error.hint
      : "";
  return (
    <div className="problem" role="alert" ref={note} tabIndex={shown ? -1 : undefined}>
      <strong>{sentence(message)}</strong>
      {hint && <span>{sentence(hint)}</span>}
    </div>
  );
}

/** Where a place in a statement leads: an address, or what is done there and then. */
export type Place = { to: (line: number, column: number) => string } | { go: (line: number, column: number) => void };

/** Words with "line 1, column 46" in them, which leads there. */
function Placed({ words, place }: { words: string; place: Place | undefined }) {
  const found = place && /line (\d+), column (\d+)/.exec(words);
  if (!found) return words;
  const [line, column] = [Number(found[1]), Number(found[2])];
  const after = found.index + found[0].length;
  return (
    <>
      {words.slice(0, found.index)}
      {"to" in place ? (
        <Link to={place.to(line, column)}>{found[0]}</Link>
      ) : (
        <button type="button" className="plain" onClick={() => place.go(line, column)}>
          {found[0]}
        </button>
      )}
      {words.slice(after)}
    </>
  );
}

/** An error that is no answer's: of a query, of a run. */
export function Failed({ error, place }: { error: { message: string; hint: string }; place?: Place | undefined }) {
  return (
    <div className="problem" role="alert">
      <strong>
        <Placed words={sentence(error.message)} place={place} />
      </strong>
      <span>{sentence(error.hint)}</span>
    </div>
  );
}
