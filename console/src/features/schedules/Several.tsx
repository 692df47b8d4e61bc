import { useState } from "react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { api, must, type Schedule } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { amount } from "../../lib/words";
import { PauseForm } from "./PauseForm";
import { schedulesChanged } from "./useScheduleChanges";

interface Pause {
  name: string;
  paused: boolean;
  reason: string;
  until?: string | null;
}

const several = (names: string[]) => (names.length === 1 ? names[0]! : amount(names.length, "schedule"));

/** All that are chosen, paused or resumed together, and what was done, undone. */
export function Several({
  chosen,
  shown,
  onChoose,
}: {
  chosen: Schedule[];
  shown: Schedule[];
  onChoose: (names: string[]) => void;
}) {
  const client = useQueryClient();
  const [asks, setAsks] = useState(false);
  const [done, setDone] = useState<{ words: string; before: Pause[] } | null>(null);
  const names = chosen.map((s) => s.name);
  const paused = chosen.filter((s) => s.paused_at).length;
  const change = useMutation({
    mutationFn: async ({ schedules, words }: { schedules: Pause[]; words: string }) => {
      const { before } = await must(api.POST("/api/v1/pauses", { body: { schedules } }));
      return { words, before };
    },
    onSuccess: async (made) => {
      setDone(made.words ? made : null);
      onChoose([]);
      await schedulesChanged(client);
    },
  });
  return (
    <>
      {done && (
        <p className="said-line" role="status">
          <span>{done.words}</span>
          <Button size="small" onClick={() => change.mutate({ schedules: done.before, words: "" })}>
            Undo
          </Button>
        </p>
      )}
      <ProblemNote error={change.error} />
      {chosen.length > 0 && (
        <div className="filters several" role="group" aria-label="With those chosen">
          <span aria-live="polite">{several(names)} chosen</span>
          {paused < chosen.length && (
            <Button size="small" onClick={() => setAsks(true)}>
              Pause…
            </Button>
          )}
          {paused > 0 && (
            <Button
              size="small"
              loading={change.isPending}
              onClick={() =>
                change.mutate({
                  schedules: names.map((name) => ({ name, paused: false, reason: "" })),
                  words: `${several(names)} resumed.`,
                })
              }
            >
              Resume
            </Button>
          )}
          {chosen.length < shown.length && (
            <Button size="small" type="text" onClick={() => onChoose(shown.map((s) => s.name))}>
              Choose all that are shown
            </Button>
          )}
          <Button size="small" type="text" onClick={() => onChoose([])}>
            Choose none
          </Button>
        </div>
      )}
      {asks && (
        <PauseForm
          what={several(names)}
          onSend={(fields) =>
            change.mutateAsync({
              schedules: names.map((name) => ({ name, paused: true, ...fields })),
              words: `${several(names)} paused.`,
            })
          }
          onClose={() => setAsks(false)}
        />
      )}
    </>
  );
}
