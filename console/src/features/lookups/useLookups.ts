import { useQuery } from "@tanstack/react-query";
import { api, must } from "../../api/client";

/** The lookups that are in use, and their names to choose from. */
export function useLookups(enabled = true) {
  const found = useQuery({
    queryKey: ["lookups"],
    enabled,
    queryFn: () => must(api.GET("/api/v1/lookups")),
  });
  const { data, error } = found;
  return { data, error, options: (data ?? []).map(({ name }) => ({ value: name, label: name })) };
}
