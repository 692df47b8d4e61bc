import { useMemo } from "react";
import { useQuery } from "@tanstack/react-query";
import { Button, Input, Select } from "antd";
import { api, must } from "../api/client";
import { useTyped } from "../lib/useAddress";
import { DayField } from "./DayField";

interface Choice {
  key: string;
  label: string;
  /** What each of them is called; empty in `value`: all. */
  options: { value: string; label: string }[];
}
interface Props {
  at: Record<string, string>;
  set: (more: Record<string, string>, replace?: boolean) => void;
  /** What can be searched in, as the field says while it is empty. */
  search: string;
  choices?: Choice[];
  /** Asks for the environment as well. */
  environment?: boolean;
  /** Keys of the first and last day. */
  days?: [string, string];
  children?: React.ReactNode;
}

/** What narrows a list: words, choices and days, each held by the address. */
export function Narrowing({ at, set, search, choices = [], environment = false, days, children }: Props) {
  const toAddress = useMemo(() => (text: string) => set({ search: text }, true), [set]);
  const [word, setWord] = useTyped(at.search ?? "", toAddress);
  const environments = useQuery({
    queryKey: ["environments"],
    queryFn: () => must(api.GET("/api/v1/environments")),
    enabled: environment,
    staleTime: 60_000,
  });
  const all: Choice[] = environment
    ? [
        ...choices,
        {
          key: "environment",
          label: "Environment",
          options: (environments.data ?? []).map(({ name }) => ({ value: name, label: name })),
        },
      ]
    : choices;
  const keys = ["search", ...all.map((c) => c.key), ...(days ?? [])];
  return (
    <div className="filters" role="search">
      <Input
        type="search"
        aria-label="Search"
        placeholder={search}
        allowClear
        className="search"
        value={word}
        onChange={(e) => setWord(e.target.value)}
      />
      {all.map(({ key, label, options }) => (
        <Select
          key={key}
          aria-label={label}
          style={{ minWidth: 150 }}
          value={at[key] ?? ""}
          onChange={(value: string) => set({ [key]: value })}
          options={[{ value: "", label: `${label}: all` }, ...options]}
        />
      ))}
      {days?.map((key, place) => (
        <label key={key}>
          {place ? "to" : "From"}{" "}
          <DayField id={`narrowed-${key}`} width={150} value={at[key]} onChange={(day) => set({ [key]: day })} />
        </label>
      ))}
      {children}
      {keys.some((key) => at[key]) && (
        <Button
          type="text"
          onClick={() => {
            setWord("");
            set(Object.fromEntries(keys.map((key) => [key, ""])));
          }}
        >
          Show all
        </Button>
      )}
    </div>
  );
}
