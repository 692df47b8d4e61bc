import { useState } from "react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App, AutoComplete, Button, Form, Select } from "antd";
import { Link } from "react-router";
import { api, must, type ExtractLine } from "../../api/client";
import { FormDialog } from "../../components/FormDialog";
import { Chosen, Done } from "../../components/Chosen";
import { ProblemNote } from "../../components/ProblemNote";
import { amount } from "../../lib/words";
import { useMe } from "../session/useMe";

interface Filing {
  name: string;
  folder?: string;
  tags?: string[];
  archived?: boolean;
}
interface Done {
  words: string;
  before: Filing[];
}
interface Started {
  runs: { name: string; run: number }[];
  refused: { name: string; why: string }[];
}

const several = (names: string[]) => (names.length === 1 ? names[0]! : amount(names.length, "extract"));

/** What can be done with all that are chosen, and what was: undone where nothing was lost. */
export function Several({
  chosen,
  folders,
  onChoose,
}: {
  chosen: ExtractLine[];
  folders: string[];
  onChoose: (names: string[]) => void;
}) {
  const { may } = useMe();
  const { modal } = App.useApp();
  const client = useQueryClient();
  const [form, setForm] = useState<"" | "move" | "tag">("");
  const [done, setDone] = useState<Done | null>(null);
  const [started, setStarted] = useState<Started | null>(null);
  const names = chosen.map((e) => e.name);
  const file = useMutation({
    mutationFn: async ({ extracts, words }: { extracts: Filing[]; words: string }) => {
      const { before } = await must(api.POST("/api/v1/filings", { body: { extracts } }));
      return { words, before };
    },
    onSuccess: async (made) => {
      setDone(made.words ? made : null);
      onChoose([]);
      await client.invalidateQueries({ queryKey: ["extracts"] });
    },
  });
  const run = useMutation({
    mutationFn: async () => {
      const found: Started = { runs: [], refused: [] };
      for (const name of names)
        try {
          const made = await must(api.POST("/api/v1/runs", { body: { extract: name } }));
          found.runs.push({ name, run: made.id });
        } catch (error) {
          found.refused.push({ name, why: error instanceof Error ? error.message : String(error) });
        }
      return found;
    },
    onSuccess: async (found) => {
      setStarted(found);
      onChoose(found.refused.map((each) => each.name));
      await client.invalidateQueries({ queryKey: ["extracts"] });
    },
  });
  const archived = chosen.some((e) => e.archived_at);
  const archive = () => {
    const scheduled = chosen.filter((e) => e.schedules).length;
    const extracts = names.map((name) => ({ name, archived: !archived }));
    if (archived) return file.mutate({ extracts, words: `${several(names)} restored.` });
    modal.confirm({
      title: `Archive ${several(names)}?`,
      content: `Nothing runs ${names.length === 1 ? "it" : "them"} until restored.${scheduled ? ` Due times of schedules of ${amount(scheduled, "extract")} are skipped.` : ""}`,
      okText: "Archive",
      onOk: () => file.mutate({ extracts, words: `${several(names)} archived.` }),
    });
  };
  const start = () =>
    modal.confirm({
      title: `Run ${several(names)} now?`,
      content: "With the defaults of their parameters, in the first environment.",
      okText: "Run",
      onOk: () => run.mutateAsync(),
    });
  return (
    <>
      {done && <Done words={done.words} onUndo={() => file.mutate({ extracts: done.before, words: "" })} />}
      {started && (
        <p className="said-line" role="status">
          <span>
            {started.runs.length ? `${amount(started.runs.length, "run")} started: ` : "Nothing was started."}
            {started.runs.slice(0, 12).map((each) => (
              <Link key={each.run} className="in-text" to={`/runs/${each.run}`}>
                {each.name}{" "}
              </Link>
            ))}
          </span>
          {started.refused.map((each) => (
            <span key={each.name} className="said">
              {each.name}: {each.why}
            </span>
          ))}
        </p>
      )}
      <ProblemNote error={file.error ?? run.error} />
      <Chosen words={chosen.length ? several(names) : ""} onNone={() => onChoose([])}>
        {may("author") && (
          <>
            <Button size="small" onClick={() => setForm("move")}>
              Move…
            </Button>
            <Button size="small" onClick={() => setForm("tag")}>
              Tags…
            </Button>
            <Button size="small" loading={file.isPending} onClick={archive}>
              {archived ? "Restore" : "Archive…"}
            </Button>
          </>
        )}
        {may("runner") && !archived && (
          <Button size="small" loading={run.isPending} onClick={() => void start()}>
            Run…
          </Button>
        )}
      </Chosen>
      {form && (
        <Change
          what={form}
          chosen={chosen}
          folders={folders}
          pending={file.isPending}
          error={file.error}
          onSend={(extracts, words) => file.mutateAsync({ extracts, words }).then(() => setForm(""))}
          onClose={() => setForm("")}
        />
      )}
    </>
  );
}

interface Fields {
  folder?: string;
  add?: string[];
  remove?: string[];
}

function Change({
  what,
  chosen,
  folders,
  pending,
  error,
  onSend,
  onClose,
}: {
  what: "move" | "tag";
  chosen: ExtractLine[];
  folders: string[];
  pending: boolean;
  error: unknown;
  onSend: (extracts: Filing[], words: string) => Promise<void>;
  onClose: () => void;
}) {
  const [form] = Form.useForm<Fields>();
  const names = chosen.map((e) => e.name);
  const theirs = [...new Set(chosen.flatMap((e) => e.tags))].sort();
  const send = ({ folder = "", add = [], remove = [] }: Fields) =>
    what === "move"
      ? onSend(
          names.map((name) => ({ name, folder })),
          `${several(names)} moved to ${folder || "the top"}.`,
        )
      : onSend(
          chosen.map((e) => ({
            name: e.name,
            tags: [...new Set([...e.tags.filter((t) => !remove.includes(t)), ...add])],
          })),
          `Tags of ${several(names)} changed.`,
        );
  return (
    <FormDialog
      title={what === "move" ? `Move ${several(names)}` : `Tags of ${several(names)}`}
      of={`several ${what}`}
      form={form}
      okText={what === "move" ? "Move" : "Change tags"}
      pending={pending}
      error={error}
      onSend={send}
      onClose={onClose}
    >
      {what === "move" ? (
        <Form.Item label="Folder" name="folder" extra="Empty: the top. A folder is there once something lies in it.">
          <AutoComplete
            options={folders.map((value) => ({ value }))}
            filterOption={(typed, one) => !!one?.value.includes(typed)}
          />
        </Form.Item>
      ) : (
        <>
          <Form.Item label="Add" name="add">
            <Select mode="tags" tokenSeparators={[","]} open={false} suffixIcon={null} placeholder="monthly, billing" />
          </Form.Item>
          {theirs.length > 0 && (
            <Form.Item label="Remove" name="remove">
              <Select mode="multiple" options={theirs.map((value) => ({ value }))} />
            </Form.Item>
          )}
        </>
      )}
    </FormDialog>
  );
}
