import { useState } from "react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { api, must, type Extract } from "../../api/client";
import { DifferenceView } from "../../components/DifferenceView";
import { useParts } from "../../components/Part";
import { ProblemNote } from "../../components/ProblemNote";
import type { Draft } from "../writing/useDraft";
import { BLANK, type Outline, type Words } from "./outline";
import { OutlineForm } from "./OutlineForm";
import { useCompiled } from "./useOutline";

interface Props {
  draft: Draft;
  extract: Extract | null;
  environment: string | undefined;
  words: Words;
  values: () => Record<string, unknown>;
  change: (more: Partial<Draft>) => void;
}

/** Whether the text is what its outline compiles to. */
export const inStep = (draft: Draft): boolean =>
  !!draft.outline && !!draft.compiled && draft.compiled === draft.statement;

/** Whether the form shows something that the text does not say: it has an error, or is still being put into words. Nothing runs
 * meanwhile: what runs is what is shown. */
export const unsaid = (draft: Draft): boolean => !!draft.outline?.from.table && !draft.compiled;

/** The way into putting a statement together, the form itself, and the way back to an outline that the text has left. */
export function PutTogether({ draft, extract, environment, words, values, change }: Props) {
  const parts = useParts();
  const open = parts.isOpen("outline");
  const setOpen = (wanted: boolean) => parts.turn("outline", wanted);
  const compiled = useCompiled({ source: draft.source, environment }, draft, change);
  const read = useMutation({
    mutationFn: () =>
      must(
        api.POST("/api/v1/outlines/read", {
          body: {
            source: draft.source,
            environment: environment!,
            statement: draft.statement,
            parameters: draft.parameters,
          },
        }),
      ),
    onSuccess: (found) => {
      change({ outline: found.outline as unknown as Outline, compiled: found.statement, statement: found.statement });
      setOpen(true);
    },
  });
  const edited = !!draft.outline && !!draft.compiled && draft.compiled !== draft.statement;
  const start = () => {
    if (draft.outline) return setOpen(!open);
    if (draft.statement.trim()) return read.mutate();
    change({ outline: BLANK, compiled: "" });
    setOpen(true);
  };
  const before = extract?.outline_revision;
  const left = !draft.outline && before ? before : undefined;
  return (
    <>
      <div className="said-line" style={{ margin: "0 0 6px" }}>
        <Button
          size="small"
          aria-expanded={open && !!draft.outline}
          disabled={!environment || !draft.source}
          loading={read.isPending}
          onClick={start}
        >
          {open && draft.outline ? "Close the form" : "Put together by choosing"}
        </Button>
        {inStep(draft) && <span className="dim">The text is put together from an outline; both may be changed.</span>}
        {!draft.source && <span className="dim">Choose a source first.</span>}
      </div>
      <ProblemNote error={read.error} />
      {edited && (
        <Left
          title="The text was edited by hand: the outline is as it was before."
          before={draft.statement}
          after={draft.compiled}
          onBack={() => change({ statement: draft.compiled })}
          onLeave={() => change({ outline: null, compiled: "" })}
        />
      )}
      {unsaid(draft) && compiled.wrong && (
        <div className="flag" role="status" style={{ marginLeft: 0 }}>
          The form has an error. The text is still that of before it, so nothing runs from here.{" "}
          {!open && (
            <Button size="small" onClick={() => setOpen(true)}>
              Open the form
            </Button>
          )}{" "}
          <Button size="small" type="text" onClick={() => change({ outline: null, compiled: "" })}>
            Leave the outline, keep the text
          </Button>
        </div>
      )}
      {left && extract && <Earlier extract={extract} number={left} draft={draft} change={change} />}
      {open && draft.outline && !edited && (
        <OutlineForm
          draft={draft as Draft & { outline: Outline }}
          environment={environment}
          words={words}
          compiled={compiled}
          values={values}
          onChange={(outline) => change({ outline, compiled: "" })}
        />
      )}
    </>
  );
}

interface LeftProps {
  title: string;
  before: string;
  after: string;
  onBack: () => void;
  onLeave?: () => void;
}

/** An outline that the text has left: what would be lost by going back to it. */
function Left({ title, before, after, onBack, onLeave }: LeftProps) {
  const [looking, setLooking] = useState(false);
  const query = useQuery({
    queryKey: ["text-differences", before, after],
    enabled: looking,
    queryFn: () => must(api.POST("/api/v1/differences", { body: { before, after } })),
  });
  return (
    <div className="flag" role="note" style={{ marginLeft: 0, display: "block" }}>
      {title}{" "}
      <Button size="small" onClick={() => setLooking(!looking)}>
        {looking ? "Close" : "What going back would change"}
      </Button>{" "}
      <Button size="small" onClick={onBack}>
        Back to the outline
      </Button>{" "}
      {onLeave && (
        <Button size="small" type="text" onClick={onLeave}>
          Leave the outline
        </Button>
      )}
      <ProblemNote error={query.error} />
      {looking && query.data && <DifferenceView lines={query.data} label="What going back would change" />}
    </div>
  );
}

/** The outline of an earlier revision, which the text has left since. */
function Earlier({
  extract,
  number,
  draft,
  change,
}: { extract: Extract; number: number } & Pick<Props, "draft" | "change">) {
  const query = useQuery({
    queryKey: ["revisions", extract.name],
    queryFn: () => must(api.GET("/api/v1/extracts/{name}/revisions", { params: { path: { name: extract.name } } })),
  });
  const found = query.data?.find((each) => each.number === number);
  if (!found?.outline) return null;
  return (
    <Left
      title={`There is an outline from revision ${number}; the text was edited by hand since.`}
      before={draft.statement}
      after={found.statement}
      onBack={() =>
        change({
          outline: found.outline as unknown as Outline,
          compiled: found.statement,
          statement: found.statement,
          parameters: found.parameters,
        })
      }
    />
  );
}
