import { useQuery } from "@tanstack/react-query";
import { api, must, type Engine } from "./client";

export type Language = Engine["language"];

/** The engines there are; they do not change while the service runs. */
export const useEngines = () =>
  useQuery({ queryKey: ["engines"], staleTime: Infinity, queryFn: () => must(api.GET("/api/v1/engines")) });

/** The language of an engine's statements; undefined while it is not known. */
export function useLanguage(engine: string | undefined): Language | undefined {
  return useEngines().data?.find((each) => each.name === engine)?.language;
}

/** Whether sources of two engines take each other's statements. */
export function useSameLanguage(engine: string): (other: string) => boolean {
  const { data } = useEngines();
  const named = (name: string) => data?.find((each) => each.name === name)?.language.name;
  return (other) => other === engine || named(other) === named(engine);
}
