import { useEffect, useState } from "react";

/** Milliseconds: what comes sooner is not announced. */
export const SHOWN_AFTER = 200;

/** Says what is waited for, once it takes so long that somebody would wonder. */
export function Waiting({ what }: { what: string }) {
  const [long, setLong] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setLong(true), SHOWN_AFTER);
    return () => clearTimeout(timer);
  }, []);
  return long ? (
    <p className="dim" role="status">
      Loading {what}…
    </p>
  ) : null;
}
