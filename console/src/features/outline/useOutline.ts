import { useEffect, useMemo, useRef, useState } from "react";
import { useQueries, useQuery } from "@tanstack/react-query";
import { api, must } from "../../api/client";
import { useStarted } from "../browse/useSourceQuery";
import type { Draft } from "../writing/useDraft";
import { placesOf, type Column, type Outline, type Remark } from "./outline";

const PAUSE_MS = 300;

interface At {
  source: string;
  environment: string | undefined;
}

/** The tables of the source, and the columns of those that the outline names. */
export function useTables({ source, environment }: At, outline: Outline) {
  const catalogue = useQuery({
    queryKey: ["catalogue", source, environment],
    enabled: !!source && !!environment,
    queryFn: () =>
      must(
        api.GET("/api/v1/sources/{name}/catalogue", {
          params: { path: { name: source }, query: { environment: environment! } },
        }),
      ),
  });
  const names = [...new Set(placesOf(outline).map((place) => place.table))].filter(Boolean);
  const known = useMemo(() => new Set(catalogue.data?.tables.map((each) => each.name)), [catalogue.data]);
  const columns = useQueries({
    queries: names
      .filter((name) => known.has(name))
      .map((table) => ({
        queryKey: ["table", source, environment, table],
        staleTime: 60_000,
        queryFn: () =>
          must(
            api.GET("/api/v1/sources/{name}/tables/{table}", {
              params: { path: { name: source, table }, query: { environment: environment! } },
            }),
          ),
      })),
    combine: (all) => all.flatMap((each) => (each.data ? [each.data] : [])),
  });
  const byTable: Record<string, Column[]> = {};
  for (const table of columns) byTable[table.name] = table.columns.map(({ name, kind }) => ({ name, kind }));
  return { tables: catalogue.data?.tables ?? [], columns: byTable, error: catalogue.error };
}

/** Compiles an outline whenever it has changed and choosing pauses; what comes of it goes into the draft. */
export function useCompiled({ source, environment }: At, draft: Draft, change: (more: Partial<Draft>) => void) {
  const { outline } = draft;
  const wanted = outline ? JSON.stringify(outline) : "";
  const [settled, setSettled] = useState(wanted);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(wanted), PAUSE_MS);
    return () => clearTimeout(timer);
  }, [wanted]);
  const declared = draft.parameters;
  const query = useQuery({
    queryKey: ["outline", source, environment, settled, declared.map((p) => `${p.name} ${p.type} ${p.is_list}`)],
    enabled: !!settled && !!environment && !!outline?.from.table,
    placeholderData: (before) => before,
    staleTime: 60_000,
    retry: false,
    queryFn: () =>
      must(
        api.POST("/api/v1/outlines/compile", {
          body: {
            source,
            environment: environment!,
            outline: JSON.parse(settled) as Record<string, unknown>,
            parameters: declared,
            ask: true,
          },
        }),
      ),
  });
  const fresh = settled === wanted && !query.isPlaceholderData ? query.data : undefined;
  const taken = useRef("");
  const latest = useRef(change);
  useEffect(() => {
    latest.current = change;
  });
  useEffect(() => {
    if (!fresh?.statement || taken.current === settled || draft.compiled) return;
    taken.current = settled;
    latest.current({
      statement: fresh.statement,
      compiled: fresh.statement,
      parameters: fresh.parameters,
    });
  }, [fresh, settled, draft.compiled]);
  const remarks = (query.data?.remarks ?? []) as Remark[];
  const wrong = query.isError || remarks.some((each) => each.severity === "error");
  return { remarks, wrong, busy: query.isFetching, error: query.error };
}

interface Counted {
  steps: { name: string; where: string; what: "rows" | "times" }[];
}

/** How many rows there are after each part, on request: by the part's path. */
export function useCounts({ source, environment }: At, draft: Draft, values: () => Record<string, unknown>) {
  const [counted, setCounted] = useState<(Counted & { of: string }) | null>(null);
  const query = useStarted(async () => {
    const told = await must(
      api.POST("/api/v1/outlines/counts", {
        body: {
          source,
          environment: environment!,
          outline: draft.outline as unknown as Record<string, unknown>,
          parameters: draft.parameters,
        },
      }),
    );
    setCounted({ steps: told.steps, of: JSON.stringify(draft.outline) });
    return must(
      api.POST("/api/v1/previews", {
        body: {
          source,
          environment: environment!,
          statement: told.statement,
          parameters: told.parameters,
          values: values(),
          statement_number: 1,
          total: false,
          plan: false,
        },
      }),
    );
  });
  const row = query.found?.result?.rows?.[0];
  const rows: Record<string, { rows?: number; times?: number }> = {};
  if (row && counted?.of === JSON.stringify(draft.outline))
    counted.steps.forEach((step, n) => {
      const cell = row[n];
      rows[step.where] = { ...rows[step.where], [step.what]: Number(typeof cell === "string" ? cell : 0) };
    });
  return { ...query, rows, count: () => query.ask(undefined), failed: query.found?.error };
}
