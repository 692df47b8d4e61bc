import { useState } from "react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { api, must, type Schedule } from "../../api/client";
import { Chosen, Done } from "../../components/Chosen";
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
      {done && <Done words={done.words} onUndo={() => change.mutate({ schedules: done.before, words: "" })} />}
      <ProblemNote error={change.error} />
      <Chosen
        words={chosen.length ? several(names) : ""}
        onNone={() => onChoose([])}
        onAll={chosen.length < shown.length ? () => onChoose(shown.map((s) => s.name)) : undefined}
      >
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
      </Chosen>
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
