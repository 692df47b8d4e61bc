import { useQuery } from "@tanstack/react-query";
import { api, must } from "../../api/client";

/** What goes on, and how many alerts are new to whoever looks. */
export const useBell = (enabled = true) =>
  useQuery({ queryKey: ["bell"], enabled, queryFn: () => must(api.GET("/api/v1/bell")), refetchInterval: 15_000 });
