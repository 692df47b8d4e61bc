import { useState } from "react";
import { kept } from "./kept";

/** A text of whoever types it, kept until it is empty again. */
export function useKeptText(key: string): [string, (text: string) => void] {
  const [text, setText] = useState(() => (kept.of(key) as { text?: string } | undefined)?.text ?? "");
  const change = (next: string) => {
    if (next) kept.keep(key, { text: next });
    else kept.forget(key);
    setText(next);
  };
  return [text, change];
}
