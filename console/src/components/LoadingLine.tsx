import { useCallback, useEffect, useState, useSyncExternalStore } from "react";
import { useQueryClient } from "@tanstack/react-query";
import { waitedFor } from "../lib/waited";
import { SHOWN_AFTER } from "./Waiting";

/** Says on every page what it waits for, once it has waited a moment; what is there already and only asked for anew is not. */
export function LoadingLine() {
  const cache = useQueryClient().getQueryCache();
  const subscribe = useCallback((tell: () => void) => cache.subscribe(tell), [cache]);
  const words = useSyncExternalStore(subscribe, () =>
    waitedFor(
      cache
        .findAll({ type: "active", fetchStatus: "fetching", predicate: (q) => q.state.status === "pending" })
        .map((q) => q.queryKey[0]),
    ),
  );
  const [long, setLong] = useState(false);
  const waits = !!words;
  useEffect(() => {
    const timer = setTimeout(() => setLong(waits), waits ? SHOWN_AFTER : 0);
    return () => clearTimeout(timer);
  }, [waits]);
  return (
    <p className="loading-line" role="status">
      {waits && long ? words : ""}
    </p>
  );
}
