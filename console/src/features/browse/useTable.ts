import { useQuery } from "@tanstack/react-query";
import { api, must } from "../../api/client";

export interface Place {
  source: string;
  environment: string;
  table: string;
}

/** One table of the stored catalogue: columns, keys both ways, indexes. */
export const useTable = ({ source, environment, table }: Place) =>
  useQuery({
    queryKey: ["table", source, environment, table],
    staleTime: 60_000,
    queryFn: () =>
      must(
        api.GET("/api/v1/sources/{name}/tables/{table}", {
          params: { path: { name: source, table }, query: { environment } },
        }),
      ),
  });
