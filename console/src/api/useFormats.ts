import { useQuery } from "@tanstack/react-query";
import { api, must } from "./client";

/** The formats there are, with their options; they do not change while a page is open. */
export const useFormats = () =>
  useQuery({ queryKey: ["formats"], staleTime: Infinity, queryFn: () => must(api.GET("/api/v1/formats")) });
