import type { QueryClient } from "@tanstack/react-query";
import { kept } from "../../lib/kept";

/**
 * Whoever it is that has signed in, by whatever way: what the browser holds of somebody else is gone before anything is drawn
 * of it. Of the same person, whose session had ended, all of it stays.
 */
export function becomes(client: QueryClient, name: string) {
  if (kept.isOfSomebodyBut(name)) {
    client.getMutationCache().clear();
    client.removeQueries({ predicate: (query) => query.queryKey[0] !== "me" });
  }
  kept.belongTo(name);
}
