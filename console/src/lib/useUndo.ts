import { useState } from "react";

const MOST = 50;

/** Changes of a list that can be taken back, one after the other, for as long as its editor stays. */
export function useUndo<T>(now: T, onChange: (next: T) => void) {
  const [before, setBefore] = useState<T[]>([]);
  const last = before.at(-1);
  return {
    put: (next: T) => {
      setBefore([...before.slice(-MOST), now]);
      onChange(next);
    },
    /** None: there is nothing to take back. */
    undo:
      last === undefined
        ? undefined
        : () => {
            onChange(last);
            setBefore(before.slice(0, -1));
          },
  };
}
