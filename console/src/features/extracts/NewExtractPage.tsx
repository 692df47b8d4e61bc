import { useMemo, useRef, useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { Form, Input, Select } from "antd";
import { useNavigate, useParams } from "react-router";
import { api, must, type KeptDraft } from "../../api/client";
import { NotYours } from "../../components/NotYours";
import { ProblemNote } from "../../components/ProblemNote";
import { Beside } from "../../components/Side";
import { firstField, valuesOf, type Field } from "../../lib/values";
import { useMe } from "../session/useMe";
import { readDraft, type Place } from "../writing/drafts";
import { useDraft, type Draft } from "../writing/useDraft";
import { Writing } from "../writing/Writing";
import { unsaid } from "../outline/PutTogether";
import { RunUnsaved } from "../runs/RunUnsaved";
import { ParameterFields } from "./ParameterFields";
import "../runs/runs.css";
import "../browse/browse.css";
import "../writing/writing.css";

const BLANK: Draft = {
  base: 0,
  name: "",
  folder: "",
  statement: "",
  outline: null,
  compiled: "",
  inputs: [],
  steps: [],
  parameters: [],
  source: "",
  formats: ["csv"],
  file_name: "",
  deliver_into: "",
  output: {},
  guards: [],
  notes: "",
};

/** Whose language a statement without a source is written in. */
const WITHOUT_SOURCE = "duckdb";

/** Values to try it with: they go with the preview, and are not saved. */
function Values({ draft, environment, given }: { draft: Draft; environment: string; given: (of: Values) => void }) {
  const [form] = Form.useForm<Values>();
  const parameters = useMemo(
    () => draft.parameters.filter((p) => p.name).map((p) => ({ ...p, choices: {} })), // proposals come once it is saved
    [draft.parameters],
  );
  const first = Object.fromEntries(parameters.map((p) => [p.name, firstField(p)]));
  if (!parameters.length) return <p className="dim">It takes no values. A word such as :zone in it asks for one.</p>;
  return (
    <Form
      key={parameters.map((p) => p.name + p.type).join()}
      form={form}
      layout="vertical"
      requiredMark={false}
      initialValues={first}
      onValuesChange={(_, all) => given(all)}
    >
      <ParameterFields parameters={parameters} extract="" environment={environment} dataDate={undefined} />
    </Form>
  );
}
type Values = Record<string, Field>;

function Opened({ place, begun }: { place: Place; begun: KeptDraft }) {
  const go = useNavigate();
  const drafting = useDraft(place, BLANK, begun);
  const { draft, change } = drafting;
  const sources = useQuery({ queryKey: ["sources"], queryFn: () => must(api.GET("/api/v1/sources")) });
  const environments = useQuery({ queryKey: ["environments"], queryFn: () => must(api.GET("/api/v1/environments")) });
  const [chosen, setChosen] = useState<string>();
  const tried = useRef<Values>({});
  const source = sources.data?.find((s) => s.name === draft.source);
  const there = source?.addresses.map((address) => address.environment);
  const environment = chosen ?? there?.[0] ?? environments.data?.[0]?.name;
  const values = () => ({
    values: valuesOf(draft.parameters, {
      ...Object.fromEntries(draft.parameters.map((p) => [p.name, firstField(p)])),
      ...tried.current,
    }),
  });
  return (
    <div className="page">
      <header className="head">
        <h1>{draft.name || "New extract"}</h1>
        <p>Nobody else sees it until you save it.</p>
      </header>
      <div className="new-extract">
        <label>
          Name
          <Input
            autoFocus
            value={draft.name}
            maxLength={64}
            placeholder="burst_history"
            onChange={(e) => change({ name: e.target.value })}
          />
        </label>
        <label>
          Folder
          <Input
            value={draft.folder}
            placeholder="leakage/monthly"
            onChange={(e) => change({ folder: e.target.value })}
          />
        </label>
        <label>
          Source
          <Select
            aria-label="Source"
            allowClear
            showSearch
            placeholder="none: it combines inputs, or computes from its values"
            value={draft.source || undefined}
            onChange={(name: string | undefined) => change({ source: name ?? "" })}
            options={(sources.data ?? []).map((s) => ({ value: s.name, label: `${s.name} (${s.engine})` }))}
          />
        </label>
        <label>
          Environment to try it in
          <Select
            aria-label="Environment to try it in"
            value={environment}
            onChange={setChosen}
            options={(environments.data ?? []).map((e) => ({ value: e.name, label: e.name }))}
          />
        </label>
      </div>
      <Beside
        title="Values to try it with"
        opens="Values to try it with"
        side={
          <>
            <Values draft={draft} environment={environment ?? ""} given={(all) => (tried.current = all)} />
            {source?.saved_only ? (
              <p className="dim">
                {source.name} is asked for saved statements only: no preview, no run before it is saved.
              </p>
            ) : (
              <RunUnsaved
                label="Run without saving"
                first={draft.formats[0]}
                disabled={!draft.statement.trim() || unsaid(draft)}
                body={(formats) => ({
                  source: draft.source,
                  environment: environment ?? "",
                  statement: draft.statement,
                  parameters: draft.parameters,
                  ...(draft.inputs.length ? { inputs: draft.inputs } : {}),
                  ...(draft.steps.length ? { steps: draft.steps } : {}),
                  output: draft.output,
                  formats,
                  ...(draft.file_name ? { file_name: draft.file_name } : {}),
                  ...values(),
                })}
              />
            )}
          </>
        }
      >
        <Writing
          extract={null}
          engine={source?.engine ?? (draft.source ? "" : WITHOUT_SOURCE)}
          drafting={drafting}
          environment={environment}
          values={values}
          onAdded={(name) => void go(`/extracts/${name}`, { replace: true })}
        />
      </Beside>
    </div>
  );
}

/** A new extract in the whole editor: tried before it is saved, and kept as a draft until it is worth saving. */
export function NewExtractPage() {
  const key = useParams().key!;
  const { may } = useMe();
  const author = may("author");
  const place: Place = `new ${key}`;
  const draft = useQuery({
    queryKey: ["draft", "new", key],
    enabled: author,
    gcTime: 0,
    staleTime: Infinity,
    queryFn: () => readDraft(place),
  });
  if (!author)
    return <NotYours title="New extract">Extracts are written by authors. Ask an administrator for the role.</NotYours>;
  if (!draft.data)
    return (
      <div className="page">
        <ProblemNote error={draft.error} />
      </div>
    );
  return <Opened key={key} place={place} begun={draft.data} />;
}
