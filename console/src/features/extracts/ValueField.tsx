import { useDeferredValue, useEffect, useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { AutoComplete, Input, Select } from "antd";
import { api, must, Problem, type Parameter } from "../../api/client";
import { useStarted } from "../browse/useSourceQuery";
import { count } from "../../lib/words";

const looks: Record<string, string> = {
  timestamp: "2026-11-24 06:05, or today at 06:05",
  integer: "42",
  decimal: "12.5",
  text: "",
};
const periods = [
  "last month",
  "this month",
  "last quarter",
  "this quarter",
  "last year",
  "this year",
  "last week",
  "start of this month to yesterday",
];

/** What a phrase means on the data date, as one types; ISO dates mean themselves. */
export function useMeaning(value: unknown, dataDate: string | undefined) {
  const phrase = typeof value === "string" ? value.trim() : "";
  const asked = phrase !== "" && !/^\d{4}-\d{2}-\d{2}([ T][\d:.+Z-]*)?$/.test(phrase);
  const found = useQuery({
    queryKey: ["phrase", phrase, dataDate],
    enabled: asked,
    staleTime: 300_000,
    retry: false,
    queryFn: () =>
      must(
        api.GET("/api/v1/date-phrases", {
          params: { query: { phrase, ...(dataDate ? { data_date: dataDate } : {}) } },
        }),
      ),
  });
  if (!asked) return null;
  if (found.error instanceof Problem) return { wrong: true, words: found.error.hint || found.error.message };
  const means = found.data?.[0];
  return means
    ? { wrong: false, words: `${means.means.replace("T", " ").replace(/ 00:00:00$/, "")} for ${means.data_date}` }
    : null;
}

function Dated({
  parameter,
  dataDate,
  value,
  onChange,
  ...rest
}: {
  parameter: Parameter;
  dataDate: string | undefined;
  value?: string;
  onChange?: (next: string) => void;
}) {
  const examples = useQuery({
    queryKey: ["phrases"],
    staleTime: Infinity,
    queryFn: () => must(api.GET("/api/v1/date-phrases", { params: { query: {} } })),
  });
  const meaning = useMeaning(parameter.type === "period" ? "" : value, dataDate);
  const options = parameter.type === "period" ? periods : (examples.data ?? []).map((e) => e.phrase);
  return (
    <>
      <AutoComplete
        {...rest}
        value={value ?? ""}
        onChange={(next: string) => onChange?.(next)}
        options={options.map((phrase) => ({ value: phrase }))}
        showSearch={{ filterOption: (typed, option) => String(option?.value ?? "").includes(typed.toLowerCase()) }}
        placeholder={
          parameter.type === "period"
            ? "last month, or 2026-11-01 to 2026-11-30"
            : parameter.type === "date"
              ? "2026-11-24, or start of last month"
              : looks.timestamp!
        }
        style={{ width: "100%" }}
      />
      {meaning && (
        <span className={meaning.wrong ? "said" : "means"} aria-live="polite">
          {meaning.words}
        </span>
      )}
    </>
  );
}

/** Values proposed by a query, with words for them. */
function Chosen({
  extract,
  environment,
  parameter,
  ...rest
}: {
  extract: string;
  environment: string | undefined;
  parameter: Parameter;
}) {
  const choices = useStarted((body: { parameter: string; environment: string }) =>
    must(api.POST("/api/v1/extracts/{name}/choices", { params: { path: { name: extract } }, body })),
  );
  const { ask } = choices;
  useEffect(() => {
    if (environment) ask({ parameter: parameter.name, environment });
  }, [ask, environment, parameter.name]);
  const rows = (choices.found?.result?.rows ?? []) as (string | null)[][];
  const options = rows
    .filter((row) => row[0] !== null)
    .map((row) => ({ value: row[0]!, label: row[1] ? `${row[1]} (${row[0]})` : row[0]! }));
  const failed = choices.found?.error?.message ?? (choices.error instanceof Error ? choices.error.message : "");
  return (
    <>
      <Select
        {...rest}
        {...(parameter.is_list ? { mode: "tags" as const } : {})}
        showSearch={{ optionFilterProp: "label" }}
        allowClear
        loading={choices.busy}
        options={options}
        tokenSeparators={[",", "\n", "\t"]}
      />
      {failed && <span className="said">no proposals: {failed}</span>}
    </>
  );
}

/** Values out of a lookup, found as one types. */
function LookedUp({ parameter, value, ...rest }: { parameter: Parameter; value?: string | string[] }) {
  const { name, column, label } = parameter.lookup;
  const [typed, setTyped] = useState("");
  const find = useDeferredValue(typed.trim());
  const found = useQuery({
    queryKey: ["lookup-rows", name, "newest", find, 1000],
    placeholderData: (before) => before,
    queryFn: () =>
      must(
        api.GET("/api/v1/lookups/{name}/rows", {
          params: { path: { name: name! }, query: { limit: 1000, ...(find ? { find } : {}) } },
        }),
      ),
  });
  const places = (found.data?.columns ?? []).map((each) => each.name.toLowerCase());
  const at = places.indexOf((column ?? found.data?.key[0] ?? "").toLowerCase());
  const words = places.indexOf((label ?? "").toLowerCase());
  const options = new Map(
    (found.data?.rows ?? [])
      .filter((row) => typeof row[at] === "string")
      .map((row) => [row[at]!, row[words] ? `${row[words]} (${row[at]})` : row[at]!]),
  );
  const more = (found.data?.total ?? 0) - (found.data?.rows.length ?? 0);
  const failed = found.error instanceof Error ? found.error.message : "";
  return (
    <>
      <Select
        {...rest}
        {...(value === undefined ? {} : { value })}
        {...(parameter.is_list ? { mode: "multiple" as const } : {})}
        showSearch={{ filterOption: false, onSearch: setTyped }}
        allowClear
        loading={found.isFetching}
        options={[...options].map(([each, said]) => ({ value: each, label: said }))}
        notFoundContent={found.isFetching ? "Looking…" : `Nothing like this in the lookup ${name}.`}
      />
      {failed && <span className="said">no values: {failed}</span>}
      {more > 0 && (
        <span className="means">
          {count(more)} more in the lookup {name}: type to find them
        </span>
      )}
    </>
  );
}

/** One value, by the type of its parameter. */
export function ValueField({
  parameter,
  extract,
  environment,
  dataDate,
  ...rest
}: {
  parameter: Parameter;
  extract: string;
  environment: string | undefined;
  dataDate: string | undefined;
}) {
  const options = parameter.allowed.map((value) => ({
    value: String(value),
    label: parameter.labels[String(value)] ?? String(value),
  }));
  if (parameter.lookup.name) return <LookedUp {...rest} parameter={parameter} />;
  if (parameter.choices.source)
    return <Chosen {...rest} extract={extract} environment={environment} parameter={parameter} />;
  if (parameter.is_list)
    return (
      <Select
        {...rest}
        mode={options.length ? "multiple" : "tags"}
        options={options}
        tokenSeparators={[",", "\n", "\t"]}
        placeholder={options.length ? "" : "type, or paste a column"}
      />
    );
  if (parameter.type === "boolean")
    return (
      <Select
        {...rest}
        allowClear
        options={[
          { value: true, label: "yes" },
          { value: false, label: "no" },
        ]}
      />
    );
  if (options.length) return <Select {...rest} allowClear={!parameter.required} options={options} />;
  if (["date", "timestamp", "period"].includes(parameter.type))
    return <Dated {...rest} parameter={parameter} dataDate={dataDate} />;
  if (parameter.sensitive) return <Input.Password {...rest} autoComplete="off" />;
  return (
    <Input
      {...rest}
      placeholder={looks[parameter.type] ?? ""}
      inputMode={parameter.type === "integer" || parameter.type === "decimal" ? "decimal" : "text"}
    />
  );
}
