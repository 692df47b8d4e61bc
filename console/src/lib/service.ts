/** Whether the service answers: noticed by any call, told once by the bar above every page. */
import { useSyncExternalStore } from "react";

let away = false;
const listeners = new Set<() => void>();

function become(now: boolean) {
  if (away === now) return;
  away = now;
  listeners.forEach((tell) => tell());
}

export const service = {
  isAway: () => away,
  missed: () => become(true),
  answered: () => become(false),
  subscribe: (tell: () => void) => {
    listeners.add(tell);
    return () => void listeners.delete(tell);
  },
};

export const useAway = () => useSyncExternalStore(service.subscribe, service.isAway);

/** Whether something answers that is no fault of the way there. */
export async function answers(): Promise<boolean> {
  try {
    return (await fetch("/api/v1/me", { cache: "no-store" })).status < 500;
  } catch {
    return false;
  }
}
