import { queryOptions } from "@tanstack/react-query";
import { api, must } from "../../api/client";

/** The list of extracts, as a search and the archive narrow it: asked for by its page, and while that page is being loaded. */
export const extractsQuery = (search: string, archived: string) =>
  queryOptions({
    queryKey: ["extracts", search, archived],
    queryFn: () =>
      must(
        api.GET("/api/v1/extracts", {
          params: { query: { search: search || undefined, archived: archived === "yes" || undefined } },
        }),
      ),
  });
