import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, must, type Parameter } from "../../api/client";
import type { Input } from "../inputs/inputs";
import type { Step } from "../steps/steps";

const PAUSE_MS = 350;
const AGAIN_MS = 20_000;

/** Diagnostics of the service on a statement, asked for when typing pauses, and again while the source does not answer; the ones before stay until then. */
export function useDiagnostics(
  enabled: boolean,
  source: string,
  environment: string | undefined,
  statement: string,
  parameters: Parameter[],
  inputs: Input[],
  steps: Step[],
) {
  const [settled, setSettled] = useState({ statement, parameters, inputs, steps });
  useEffect(() => {
    const timer = setTimeout(() => setSettled({ statement, parameters, inputs, steps }), PAUSE_MS);
    return () => clearTimeout(timer);
  }, [statement, parameters, inputs, steps]);
  const query = useQuery({
    queryKey: ["diagnostics", source, environment, settled],
    enabled: enabled && !!environment && settled.statement.trim() !== "",
    staleTime: 60_000,
    gcTime: 10_000,
    retry: false,
    placeholderData: (before) => before,
    refetchInterval: ({ state: { data } }) =>
      source && data && !data.asked && data.diagnostics.every((r) => r.severity !== "error") ? AGAIN_MS : false,
    queryFn: () =>
      must(
        api.POST("/api/v1/diagnostics", {
          body: {
            source,
            environment: environment!,
            statement: settled.statement,
            parameters: settled.parameters,
            inputs: settled.inputs,
            steps: settled.steps,
          },
        }),
      ),
  });
  const current = settled.statement === statement;
  return {
    diagnostics: current ? query.data?.diagnostics : undefined,
    parts: query.data?.statements ?? [],
    asked: query.data?.asked,
    busy: query.isFetching || !current,
    error: query.error,
  };
}
