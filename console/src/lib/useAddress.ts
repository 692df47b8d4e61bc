import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";

/** Settings of a page that its address holds, so that a link, a bookmark and Back bring them back. What is as in `usual` is
 * left out of it. */
export function useAddress<Settings extends Record<string, string>>(usual: Settings) {
  const [params, setParams] = useSearchParams();
  const [first] = useState(usual);
  const now = useMemo(
    () => Object.fromEntries(Object.entries(first).map(([key, value]) => [key, params.get(key) ?? value])) as Settings,
    [params, first],
  );
  const set = useCallback(
    (more: Partial<Settings>, replace = false) =>
      setParams(
        (before) => {
          const next = new URLSearchParams(before);
          for (const [key, value] of Object.entries(more as Record<string, string>))
            if (value === undefined || value === first[key]) next.delete(key);
            else next.set(key, value);
          return next;
        },
        { replace },
      ),
    [setParams, first],
  );
  return [now, set] as const;
}

/** What is typed, at once, and the address a little later; Back and links are followed too. */
export function useTyped(inAddress: string, toAddress: (text: string) => void) {
  const [text, setText] = useState(inAddress);
  const sent = useRef(inAddress);
  useEffect(() => {
    if (inAddress === sent.current) return;
    sent.current = inAddress;
    setText(inAddress);
  }, [inAddress]);
  useEffect(() => {
    if (text === sent.current) return;
    const timer = setTimeout(() => {
      sent.current = text;
      toAddress(text);
    }, 150);
    return () => clearTimeout(timer);
  }, [text, toAddress]);
  return [text, setText] as const;
}
