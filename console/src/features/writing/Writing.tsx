import { useEffect, useRef, useState, type ReactNode } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { App, Button, Input, InputNumber, Select } from "antd";
import type { SqlLanguage } from "sql-formatter";
import { api, must, Problem, type Extract, type PreviewBody } from "../../api/client";
import { useLanguage, useSameLanguage } from "../../api/useEngines";
import { Part, useParts } from "../../components/Part";
import { ProblemNote } from "../../components/ProblemNote";
import { StatementView } from "../../components/StatementView";
import { asksWords, givesWords, goesWords, holdsWords, readsWords } from "../../lib/decisions";
import { useAddress } from "../../lib/useAddress";
import { useKeptText } from "../../lib/useKeptText";
import { amount } from "../../lib/words";
import { useSourceQuery } from "../browse/useSourceQuery";
import { useMe } from "../session/useMe";
import { Declare, Parameters, undeclared } from "./Parameters";
import { partAt } from "./places";
import { Conflict, OtherWindow } from "./Conflicts";
import { Preview, usePreview } from "./Preview";
import { Delivery } from "./Delivery";
import { Diagnostics } from "./Diagnostics";
import { Guards } from "./Guards";
import { PutTogether, unsaid } from "../outline/PutTogether";
import { InputsEditor } from "../inputs/InputsEditor";
import { combinesWords } from "../inputs/inputs";
import { StepsEditor } from "../steps/StepsEditor";
import { blank, doneWords } from "../steps/steps";
import { useSteps } from "../steps/useSteps";
import { OutputSettings } from "./OutputSettings";
import { KEYS, SqlEditor, type Complete, type EditorHandle } from "./SqlEditor";
import { useDiagnostics } from "./useDiagnostics";
import type { StepColumn } from "../steps/steps";
import { draftOf, type Draft, type Drafting } from "./useDraft";

const KEPT = {
  kept: "Your draft is kept; only you see it.",
  keeping: "Keeping your draft…",
  waiting: "Your draft is not kept yet.",
} as const;

/** Which part a refused field belongs to. */
const PART_OF: Record<string, string> = {
  source: "reads",
  inputs: "combines",
  parameters: "asks",
  steps: "done",
  formats: "gives",
  file_name: "gives",
  output: "gives",
  guards: "holds",
  deliver_into: "goes",
  notes: "notes",
};

interface Props {
  /** None: it is new, and saving it makes it one. */
  extract: Extract | null;
  engine: string;
  drafting: Drafting;
  environment: string | undefined;
  values: () => { values: Record<string, unknown>; data_date?: string | undefined };
  onAdded?: (name: string) => void;
  /** What follows the parts that a save keeps. */
  children?: ReactNode;
}

/** The statement, then what else is decided, part by part, and the save that makes a revision. */
export function Writing({ extract, engine, drafting, environment, values, onAdded, children }: Props) {
  const { draft, changed, stale, sync, other, change, drop, became, settled } = drafting;
  const client = useQueryClient();
  const { message } = App.useApp();
  const { may } = useMe();
  const writable = may("author") && !extract?.archived_at;
  const name = extract?.name ?? draft.name ?? "";
  const open = !!draft.outline && !draft.compiled; // the outline does not compile, or not yet
  const worth = !open && (extract ? changed && !stale : !!name.trim() && !!draft.statement.trim());
  const editor = useRef<EditorHandle>(null);
  const [at] = useAddress({ line: "", column: "" }); // where a link of an error leads
  const [line, column] = [Number(at.line), Number(at.column)];
  useEffect(() => {
    if (line > 0 && column > 0) editor.current?.goTo({ line, column, length: 1 });
  }, [line, column]);
  const language = useLanguage(engine);
  const same = useSameLanguage(engine);
  const parts = useParts();
  const [note, setNote] = useKeptText(`change note of ${name}`);
  const diagnostics = useDiagnostics(
    writable,
    draft.source,
    environment,
    draft.statement,
    draft.parameters,
    draft.inputs,
    draft.steps,
  );
  const gather = useSourceQuery(draft.source);
  const { ask: askFor, found: gathered } = gather;
  const shared = useQuery({ queryKey: ["values"], queryFn: () => must(api.GET("/api/v1/values")) });
  const sources = useQuery({ queryKey: ["sources"], queryFn: () => must(api.GET("/api/v1/sources")) });
  const address = sources.data
    ?.find((s) => s.name === draft.source)
    ?.addresses.find((a) => a.environment === environment);
  const never = writable && address?.catalogue_at === null;
  useEffect(() => {
    if (never && environment) askFor({ environment, kind: "catalogue" });
  }, [never, askFor, environment]);
  useEffect(() => {
    if (gathered) void client.invalidateQueries({ queryKey: ["sources"] });
  }, [gathered, client]);
  const save = useMutation({
    mutationFn: async () => {
      const { base, compiled, outline, statement, ...rest } = draft;
      const together = !!outline && compiled === statement;
      const content = together
        ? { ...rest, outline: outline as unknown as Record<string, unknown> }
        : { ...rest, statement, outline: null };
      await settled(); // a draft that is still on its way would come back after it was saved
      if (!extract) {
        const body = { ...content, name: name.trim(), folder: draft.folder ?? "", change_note: note || "first save" };
        return must(api.POST("/api/v1/extracts", { body }));
      }
      return must(
        api.PATCH("/api/v1/extracts/{name}", {
          params: { path: { name } },
          headers: { "If-Match": `"${base}"` },
          body: { ...content, parameters: draft.parameters, change_note: note },
        }),
      );
    },
    onSuccess: (saved) => {
      became(extract ? draftOf(saved) : undefined);
      client.setQueryData(["extract", saved.name], saved); // before the word that it is saved: a run now is of this revision
      setNote("");
      void message.success(`Saved as revision ${saved.revision.number}.`);
      void client.invalidateQueries();
      if (!extract) onAdded?.(saved.name);
    },
    onError: (error) => {
      if (!(error instanceof Problem)) return; // a fault of our own, told below
      if (error.code === "edited_meanwhile") void client.invalidateQueries({ queryKey: ["extract", name] });
      const refused = PART_OF[String(error.facts.field)];
      if (refused) parts.turn(refused, true);
    },
  });
  const back = useMutation({
    mutationFn: () =>
      must(api.POST("/api/v1/restore-parameters", { body: { source: draft.source, statement: draft.statement } })),
    onSuccess: (found) => change({ statement: found.statement }),
  });
  const [openedStep, setOpenedStep] = useState<number | null>(null);
  const part = () => partAt(diagnostics.parts, editor.current?.line() ?? 1);
  const preview = usePreview((): PreviewBody => {
    const { values: given, data_date } = values();
    return {
      source: draft.source,
      environment: environment ?? "",
      statement: draft.statement,
      parameters: draft.parameters,
      statement_number: part() + 1,
      values: given,
      total: false,
      plan: false,
      ...(draft.inputs.length ? { inputs: draft.inputs } : {}),
      ...(draft.output.documents ? { documents: draft.output.documents } : {}),
      ...(data_date ? { data_date } : {}),
    };
  }, draft.steps);
  const known = (diagnostics.parts[0]?.columns ?? []) as unknown as StepColumn[];
  const { taken } = preview;
  const steps = useSteps(
    writable,
    draft.steps,
    draft.parameters,
    known,
    { taken, found: preview.rows.found },
    { inputs: draft.inputs, environment },
  );
  /** `count`: so many of the steps; null: all. */
  const look = (count: number | null = null) => {
    if (!environment || unsaid(draft)) return;
    preview.start(diagnostics.parts.length > 1 ? (diagnostics.parts[part()]?.title ?? "") : "", count);
  };
  const trySave = () => {
    if (worth && !save.isPending) save.mutate();
  };
  useEffect(() => {
    const keys = (event: KeyboardEvent) => {
      if (!(event.ctrlKey || event.metaKey) || event.defaultPrevented) return;
      if (event.key === "s" && writable) {
        event.preventDefault();
        trySave();
      }
    };
    window.addEventListener("keydown", keys);
    return () => window.removeEventListener("keydown", keys);
  });
  const source = sources.data?.find((s) => s.name === draft.source);
  const refused = save.error instanceof Problem ? PART_OF[String(save.error.facts.field)] : undefined;
  const fault = (part: string) => (refused === part ? <ProblemNote error={save.error} shown /> : undefined);
  const sentences = (
    steps.chain.checked?.steps.map((each) => each.words) ??
    extract?.revision.steps_in_words ??
    []
  ).filter((_, place) => draft.steps.length === 0 || !draft.steps[place]?.off);
  const told = {
    reads: { name: "reads", title: "What it reads", words: readsWords(draft.source, source, draft.inputs.length) },
    combines: { name: "combines", title: "What it combines", words: combinesWords(draft.inputs) },
    asks: { name: "asks", title: "What it asks", words: asksWords(draft.parameters) },
    done: { name: "done", title: "What is done to it", words: doneWords(sentences) },
    gives: { name: "gives", title: "What it gives", words: givesWords(draft.formats, draft.file_name, draft.output) },
    holds: { name: "holds", title: "What must hold", words: holdsWords(draft.guards) },
    goes: {
      name: "goes",
      title: "Where it goes",
      words: may("author") ? goesWords(draft.deliver_into, draft.output) : "The folders are shown to authors.",
    },
  };
  if (!writable)
    return (
      <>
        <StatementView text={draft.statement} engine={engine} label="Statement" />
        {Object.values(told)
          .filter((part) => part !== told.combines || draft.inputs.length)
          .map((part) => (
            <Part key={part.name} {...part} parts={parts} />
          ))}
        {children}
      </>
    );
  const complete: Complete = async (statement, position, asked) => {
    if (!environment) return null;
    const parameters = [
      ...draft.parameters.flatMap((p) => (p.type === "period" ? [`${p.name}_from`, `${p.name}_to`] : [p.name])),
      "data_date",
      "due_time",
    ];
    // Without an answer nothing is proposed: the diagnostics below the editor say that the service is away.
    return must(
      api.POST("/api/v1/completions", {
        body: {
          ...{ source: draft.source, environment, statement, position, parameters, asked },
          ...(draft.inputs.length ? { inputs: draft.inputs } : {}),
        },
      }),
    ).catch(() => null);
  };
  const formatter = language?.editor?.formatter;
  const format = async () => {
    const { format: formatted } = await import("sql-formatter");
    try {
      change({
        statement:
          formatted(draft.statement, {
            language: formatter as SqlLanguage,
            keywordCase: "preserve",
            paramTypes: { named: [":"] },
            tabWidth: 2,
            linesBetweenQueries: 1,
          }) + "\n",
      });
    } catch {
      void message.warning("The statement cannot be formatted as it stands; correct the diagnostics first.");
    }
  };
  const used = [
    ...new Set(
      [...draft.statement.matchAll(/(?<![:\w])::?([a-z_]\w*)/g)]
        .filter((found) => !found[0].startsWith("::"))
        .map((found) => found[1]!),
    ),
  ];
  const missing = undeclared(draft.parameters, used);
  const declare = (parameters: Draft["parameters"]) => change({ parameters });
  const goTo = (line: number, column: number) => editor.current?.goTo({ line, column, length: 1 });
  const idle = !environment || unsaid(draft);
  const errors = diagnostics.diagnostics?.filter((r) => r.severity === "error").length ?? 0;
  return (
    <>
      <div className="together">
        <div className={draft.outline && parts.isOpen("outline") ? "side-by-side" : undefined}>
          <div>
            {language?.outlines && (
              <PutTogether
                draft={draft}
                extract={extract}
                environment={environment}
                words={language.outlines}
                values={() => values().values}
                change={change}
              />
            )}
          </div>
          <SqlEditor
            ref={editor}
            text={draft.statement}
            language={language}
            complete={complete}
            diagnostics={diagnostics.diagnostics}
            onChange={(statement) => change({ statement })}
            onSave={trySave}
            onPreview={() => look()}
          />
        </div>
      </div>
      <div className="said-line">
        <Button size="small" title="Ctrl+Enter" onClick={() => look()} disabled={idle}>
          Preview
        </Button>
        <label>
          first{" "}
          <InputNumber
            size="small"
            aria-label="Rows of the preview"
            min={1}
            max={1000}
            value={preview.most}
            onChange={(value) => preview.setMost(value ?? 100)}
            style={{ width: 70 }}
          />{" "}
          rows
        </label>
        {draft.source && (
          <Button
            size="small"
            title="How the database means to carry it out; it is not run"
            disabled={idle}
            onClick={preview.planned}
          >
            Plan
          </Button>
        )}
        {formatter && (
          <Button size="small" onClick={() => void format()}>
            Format
          </Button>
        )}
        {/\/\*\s*:[a-z_]\w*\s*\*\//.test(draft.statement) && (
          <Button size="small" loading={back.isPending} onClick={() => back.mutate()}>
            Restore parameters
          </Button>
        )}
        <Button size="small" title="Ctrl+F" onClick={() => editor.current?.find()}>
          Find and replace
        </Button>
        <span className="dim keys">{KEYS}</span>
        <span aria-live="polite">
          {diagnostics.error
            ? "No diagnostics meanwhile."
            : unsaid(draft) || diagnostics.diagnostics === undefined // of a text that is older than the form nothing is said
              ? "…"
              : errors
                ? amount(errors, "error")
                : diagnostics.diagnostics.length
                  ? amount(diagnostics.diagnostics.length, "warning")
                  : diagnostics.asked
                    ? `No errors${diagnostics.parts.length > 1 ? ` in ${amount(diagnostics.parts.length, "statement")}` : ""} (checked by the database)`
                    : ""}
        </span>
        {never && (
          <span className="dim">
            {gathered?.error ? `No tables to complete: ${gathered.error.message}` : "Looking which tables there are…"}
          </span>
        )}
      </div>
      {diagnostics.diagnostics && diagnostics.diagnostics.length > 0 && (
        <Diagnostics diagnostics={diagnostics.diagnostics} onGo={(r) => editor.current?.goTo(r)} />
      )}
      {other && <OtherWindow drafting={drafting} />}
      {extract && stale && (
        <Conflict
          extract={extract}
          draft={draft}
          onKeep={() => change({ base: extract.revision.number })}
          onDrop={drop}
        />
      )}
      <ProblemNote error={back.error} />
      <Preview
        preview={preview}
        idle={idle}
        label={name || "new extract"}
        onPlace={goTo}
        onStep={(kind, column) => {
          change({ steps: [...draft.steps, blank(kind, column)] });
          setOpenedStep(draft.steps.length);
          parts.turn("done", true);
        }}
      />
      {extract && (
        <Part {...told.reads} parts={parts} fault={fault("reads")}>
          <Select
            aria-label="Source"
            value={draft.source}
            onChange={(source: string) => change({ source })}
            options={[
              ...(sources.data ?? []).filter((s) => same(s.engine)).map((s) => ({ value: s.name, label: s.name })),
              ...(draft.source ? [] : [{ value: "", label: "none: its inputs, or its values alone" }]),
            ]}
            style={{ width: 260 }}
          />
          <p className="dim" style={{ margin: "4px 0 0" }}>
            Another source of the same language; where it lies in each environment stands with the source.
          </p>
        </Part>
      )}
      {(!draft.source || draft.inputs.length > 0) && (
        <Part {...told.combines} parts={parts} fault={fault("combines")}>
          <InputsEditor
            inputs={draft.inputs}
            parameters={draft.parameters.map((each) => each.name)}
            self={name}
            loaded={preview.rows.found?.result?.inputs}
            onChange={(inputs) => change({ inputs })}
          />
        </Part>
      )}
      <Part
        {...told.asks}
        parts={parts}
        fault={
          <>
            {missing.length > 0 && (
              <div className="part-body filters">
                <Declare
                  names={missing}
                  parameters={draft.parameters}
                  onChange={(parameters) => {
                    declare(parameters);
                    parts.turn("asks", true);
                  }}
                />
              </div>
            )}
            {fault("asks")}
          </>
        }
      >
        <Parameters
          parameters={draft.parameters}
          shared={shared.data ?? []}
          sources={sources.data ?? []}
          onChange={declare}
        />
      </Part>
      <Part {...told.done} parts={parts} fault={fault("done")}>
        <StepsEditor
          chain={steps.chain}
          opened={openedStep}
          onOpen={setOpenedStep}
          onChange={(next) => change({ steps: next })}
          onLook={look}
        />
        <ProblemNote error={steps.error} />
      </Part>
      <Part {...told.gives} parts={parts} fault={fault("gives")}>
        <OutputSettings
          formats={draft.formats}
          fileName={draft.file_name}
          output={draft.output}
          preview={preview.rows.found ?? undefined}
          ofDocuments={!!language?.gives_documents}
          onChange={change}
        />
      </Part>
      <Part {...told.holds} parts={parts} fault={fault("holds")}>
        <Guards guards={draft.guards} onChange={(guards) => change({ guards })} />
      </Part>
      <Part {...told.goes} parts={parts} fault={fault("goes")}>
        <Delivery draft={draft} onChange={change} />
      </Part>
      <Part
        name="notes"
        title="Notes"
        words={
          draft.notes.trim()
            ? amount(draft.notes.trim().split(/\s+/).length, "word")
            : "None yet: what is it for, and for whom?"
        }
        parts={parts}
        fault={fault("notes")}
      >
        <Input.TextArea
          aria-label="Notes, in Markdown"
          autoSize={{ minRows: 3, maxRows: 12 }}
          value={draft.notes}
          onChange={(e) => change({ notes: e.target.value })}
        />
      </Part>
      {children}
      <div className="save-bar">
        {!refused && !(save.error instanceof Problem && save.error.code === "edited_meanwhile") && (
          <ProblemNote error={save.error} />
        )}
        <div className="filters">
          <Input
            aria-label="What this save changes"
            placeholder="What this save changes"
            value={note}
            onChange={(e) => setNote(e.target.value)}
            style={{ maxWidth: 360 }}
          />
          <Button title="Ctrl+S" disabled={!worth} loading={save.isPending} onClick={trySave}>
            {extract ? "Save revision" : "Save extract"}
          </Button>
          {changed && !stale && (
            <Button type="text" onClick={drop}>
              Undo changes
            </Button>
          )}
          {changed && (
            <span className="dim" role="status">
              {KEPT[sync]}
            </span>
          )}
        </div>
      </div>
    </>
  );
}
