import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, must, type Parameter, type SourceQuery } from "../../api/client";
import type { Chain } from "./StepsEditor";
import type { Input } from "../inputs/inputs";
import type { Step, StepColumn } from "./steps";

const PAUSE_MS = 350;

/** What the service says of the steps, and what the previews have told of their rows. `known`: columns of the statement's result, as
 * the database says without running it; where it does not, those of a preview before all steps. */
export function useSteps(
  enabled: boolean,
  steps: Step[],
  parameters: Parameter[],
  known: StepColumn[],
  preview: { taken: Step[] | undefined; found: SourceQuery | undefined },
  combined: { inputs: Input[]; environment: string | undefined },
) {
  const { taken: asked, found } = preview;
  const { inputs, environment } = combined;
  const [settled, setSettled] = useState({ steps, parameters, inputs });
  useEffect(() => {
    const timer = setTimeout(() => setSettled({ steps, parameters, inputs }), PAUSE_MS);
    return () => clearTimeout(timer);
  }, [steps, parameters, inputs]);
  const bare = asked?.length === 0 ? found?.result?.columns : undefined;
  const columns = known.length ? known : (bare ?? []);
  const query = useQuery({
    queryKey: ["steps-check", settled, columns, environment],
    enabled: enabled && settled.steps.length > 0,
    staleTime: 60_000,
    gcTime: 10_000,
    retry: false,
    placeholderData: (before) => before,
    queryFn: () =>
      must(
        api.POST("/api/v1/steps/check", {
          body: {
            steps: settled.steps,
            columns: columns.map(({ name, kind }) => ({ name, kind })),
            parameters: settled.parameters,
            statement_number: 1,
            ...(settled.inputs.length && environment ? { inputs: settled.inputs as never, environment } : {}),
          },
        }),
      ),
  });
  const chain: Chain = {
    steps,
    checked: steps.length ? query.data : undefined,
    columns,
    asked,
    counted: found?.result?.shaped?.steps,
    inputs: inputs.map((each) => each.name),
  };
  return { chain, error: query.error };
}
