import { useEffect, useMemo, useState } from "react";
import { useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Form, Tag } from "antd";
import Markdown from "react-markdown";
import { Link, useNavigate, useParams } from "react-router";
import { api, must, type Extract, type KeptDraft, type Run } from "../../api/client";
import { Part, useParts } from "../../components/Part";
import { ProblemNote } from "../../components/ProblemNote";
import { Beside } from "../../components/Side";
import { becameWords, runsWords } from "../../lib/decisions";
import { moment } from "../../lib/words";
import { RunsTable } from "../runs/RunsTable";
import { useRuns } from "../runs/useRuns";
import { useMe } from "../session/useMe";
import { readDraft } from "../writing/drafts";
import { draftOf, useDraft } from "../writing/useDraft";
import { Writing } from "../writing/Writing";
import { Filing } from "./Filing";
import { Revisions } from "./Revisions";
import { bodyOf, RunForm, type RunFields } from "./RunForm";
import { Star } from "./Star";
import "../runs/runs.css";
import "../browse/browse.css";
import "../writing/writing.css";

/** The schedules that run it, each with its next moment. */
function WhenItRuns({ extract }: { extract: Extract }) {
  const found = useQueries({
    queries: extract.used_by.map((name) => ({
      queryKey: ["schedule", name],
      queryFn: () => must(api.GET("/api/v1/schedules/{name}", { params: { path: { name } } })),
    })),
    combine: (all) => ({
      schedules: all.flatMap((each) => (each.data ? [each.data] : [])),
      error: all.find((each) => each.error)?.error,
    }),
  });
  const { may } = useMe();
  return (
    <Part
      name="runs"
      title="When it runs"
      words={extract.used_by.length && !found.schedules.length ? "…" : runsWords(found.schedules)}
      parts={useParts()}
      opens="Show"
    >
      <ProblemNote error={found.error} />
      {found.schedules.map((s) => (
        <p key={s.name} style={{ margin: "0 0 4px" }}>
          <Link className="in-text" to={`/schedules/${s.name}`}>
            {s.name}
          </Link>{" "}
          in {s.environment}: {s.rule}, by the clocks of {s.zone}
        </p>
      ))}
      {may("author") && (
        <Link className="in-text" to={`/new-schedule?extract=${extract.name}`}>
          Add a schedule for it
        </Link>
      )}
    </Part>
  );
}

function WhatBecame({ name }: { name: string }) {
  const { items: runs, isPending, hasNextPage, fetchNextPage, error } = useRuns({ extract: name });
  return (
    <Part
      name="became"
      title="What became of it"
      words={isPending ? "…" : <BecameLine run={runs[0]} />}
      parts={useParts()}
      opens="Show"
    >
      <ProblemNote error={error} />
      <RunsTable
        extract={false}
        runs={runs}
        loading={isPending}
        more={hasNextPage ? () => void fetchNextPage() : undefined}
        hollow={<p>This extract has not run yet.</p>}
      />
    </Part>
  );
}

const BecameLine = ({ run }: { run: Run | undefined }) =>
  run ? (
    <Link className="in-text" to={`/runs/${run.id}`}>
      {becameWords(run)}
    </Link>
  ) : (
    becameWords(run)
  );

function Saved({ extract }: { extract: Extract }) {
  const { number, author, saved_at, change_note } = extract.revision;
  return (
    <Part
      name="revisions"
      title="Who saved it"
      words={`Revision ${number} by ${author}, ${moment(saved_at)}${change_note ? `: ${change_note}` : ""}`}
      parts={useParts()}
      opens="Show"
    >
      <Revisions key={number} extract={extract} />
    </Part>
  );
}

/** Notes are Markdown; raw HTML in them stays text. */
function Notes({ text }: { text: string }) {
  return text ? (
    <div className="notes">
      <Markdown skipHtml>{text}</Markdown>
    </div>
  ) : null;
}

function Opened({ extract, begun }: { extract: Extract; begun: KeptDraft }) {
  const { name, revision } = extract;
  const client = useQueryClient();
  const { modal } = App.useApp();
  const { may } = useMe();
  const [filing, setFiling] = useState<"place" | "copy" | null>(null);
  const [form] = Form.useForm<RunFields>();
  const environment = Form.useWatch<string | undefined>("environment", form);
  const saved = useMemo(() => draftOf(extract), [extract]);
  const drafting = useDraft(`extract ${name}`, saved, begun);
  const sources = useQuery({ queryKey: ["sources"], queryFn: () => must(api.GET("/api/v1/sources")) });
  const archive = useMutation({
    mutationFn: (back: boolean) =>
      must(
        back
          ? api.POST("/api/v1/extracts/{name}/restore", { params: { path: { name } }, body: {} })
          : api.POST("/api/v1/extracts/{name}/archive", { params: { path: { name } } }),
      ),
    onSuccess: () => client.invalidateQueries(),
  });
  const favourites = useQuery({
    queryKey: ["extracts", "favourites"],
    queryFn: () => must(api.GET("/api/v1/extracts", { params: { query: { favourite: true } } })),
  });
  useEffect(
    () => void api.POST("/api/v1/extracts/{name}/opened", { params: { path: { name } } }).catch(() => undefined), // no loss
    [name],
  );
  const source = sources.data?.find((s) => s.name === revision.source);
  const engine = revision.engine;
  const uses = extract.used_by.length
    ? ` ${extract.used_by.join(", ")} run${extract.used_by.length === 1 ? "s" : ""} it.`
    : "";
  const put = () =>
    modal.confirm({
      title: `Archive ${name}?`,
      content: `Nothing runs it until it is restored.${uses}`,
      okText: "Archive",
      onOk: () => archive.mutateAsync(false),
    });
  const runnable = may("runner") && !extract.archived_at;
  const values = () => {
    const body = bodyOf(name, drafting.draft.parameters, form.getFieldsValue());
    return { values: body.values ?? {}, data_date: body.data_date };
  };
  return (
    <div className="page">
      <header className="head">
        <h1>{name}</h1>
        <Star name={name} favourite={favourites.data?.some((e) => e.name === name)} />
        <p>
          {extract.folder}
          {extract.archived_at && " (archived)"}
        </p>
        <div className="grow" />
        {may("author") && extract.in_repository && <Button onClick={() => setFiling("place")}>Rename or move</Button>}
        {may("author") && <Button onClick={() => setFiling("copy")}>Copy</Button>}
        {may("author") &&
          (extract.archived_at ? (
            <Button onClick={() => archive.mutate(true)}>Restore</Button>
          ) : (
            <Button onClick={() => void put()}>Archive</Button>
          ))}
      </header>
      <div className="said-line" style={{ margin: "-4px 0 8px" }}>
        <span>owner {extract.owner}</span>
        {extract.tags.map((tag) => (
          <Tag key={tag} style={{ margin: 0 }}>
            {tag}
          </Tag>
        ))}
        {extract.input_of.length > 0 && (
          <span>
            input of{" "}
            {extract.input_of.map((each, i) => (
              <span key={each}>
                {i > 0 && ", "}
                <Link className="in-text" to={`/extracts/${each}`}>
                  {each}
                </Link>
              </span>
            ))}
          </span>
        )}
        {extract.former_names.length > 0 && <span>earlier {extract.former_names.join(", ")}</span>}
      </div>
      {!extract.in_repository && (
        <div className="flag" role="note">
          It was run without being saved, and is not in the repository.{" "}
          {may("author") && (
            <Button size="small" onClick={() => setFiling("place")}>
              Keep it…
            </Button>
          )}
        </div>
      )}
      <Notes text={revision.notes} />
      <ProblemNote error={archive.error} />
      <Beside
        title="Run now"
        opens="Run…"
        side={
          runnable && (
            <RunForm
              extract={extract}
              parameters={drafting.draft.parameters}
              source={source}
              form={form}
              unsaved={drafting.changed}
            />
          )
        }
      >
        <Writing
          key={name}
          extract={extract}
          engine={engine}
          drafting={drafting}
          environment={environment}
          values={values}
        >
          <WhenItRuns extract={extract} />
          <WhatBecame name={name} />
          <Saved extract={extract} />
        </Writing>
      </Beside>
      {filing && <Filing extract={extract} engine={engine} copy={filing === "copy"} onClose={() => setFiling(null)} />}
    </div>
  );
}

const NO_DRAFT: KeptDraft = { key: "", extract: "", base: null, version: 0, saved_at: null, content: null };

export function ExtractPage() {
  const name = useParams().name!;
  const go = useNavigate();
  const { may } = useMe();
  const query = useQuery({
    queryKey: ["extract", name],
    queryFn: () => must(api.GET("/api/v1/extracts/{name}", { params: { path: { name } } })),
  });
  const extract = query.data;
  useEffect(() => {
    if (extract && extract.name !== name) void go(`/extracts/${extract.name}`, { replace: true });
  }, [extract, name, go]);
  const author = may("author");
  const draft = useQuery({
    queryKey: ["draft", name],
    enabled: author,
    gcTime: 0, // what another window has written since is not overlooked
    staleTime: Infinity, // from then on the editor itself looks
    queryFn: () => readDraft(`extract ${name}`),
  });
  if (!extract || (author && !draft.data))
    return (
      <div className="page">
        <ProblemNote error={query.error ?? draft.error} />
      </div>
    );
  return <Opened key={extract.name} extract={extract} begun={draft.data ?? NO_DRAFT} />;
}
