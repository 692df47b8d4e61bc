import { useMutation, useQueryClient, type Query, type QueryClient } from "@tanstack/react-query";
import { App } from "antd";
import { api, must } from "../../api/client";
import type { PauseFields } from "./PauseForm";

const OF_SCHEDULES = ["schedules", "schedule", "schedule-month", "due"];

/** After a change: the list, the page, its month and its due times are asked for anew. */
export const schedulesChanged = (client: QueryClient) =>
  client.invalidateQueries({ predicate: ({ queryKey: [first] }) => OF_SCHEDULES.includes(String(first)) });

/** What is done to a schedule at once, from its page and from the list. */
export function useScheduleChanges(onRemoved?: () => void) {
  const client = useQueryClient();
  const { modal } = App.useApp();
  const change = useMutation({
    mutationFn: ({ name, verb }: { name: string; verb: "resume" | "remove" }) => {
      const params = { path: { name } };
      if (verb === "remove") return must(api.DELETE("/api/v1/schedules/{name}", { params }));
      return must<unknown>(api.POST("/api/v1/schedules/{name}/resume", { params }));
    },
    onSuccess: async (_, { name, verb }) => {
      if (verb !== "remove") return schedulesChanged(client);
      onRemoved?.();
      // Its page is mounted for a moment still: what is gone is not asked for anew.
      const its = ({ queryKey: [first, second] }: Query) => OF_SCHEDULES.includes(String(first)) && second === name;
      await client.invalidateQueries({ predicate: its, refetchType: "none" });
      await client.invalidateQueries({ queryKey: ["schedules"] });
    },
  });
  const remove = (name: string) =>
    void modal.confirm({
      title: `Remove ${name}?`,
      content: "The record of its due times stays.",
      okText: "Remove",
      onOk: () => change.mutateAsync({ name, verb: "remove" }).catch(() => undefined),
    });
  const pause = async (name: string, body: PauseFields) => {
    await must(api.POST("/api/v1/schedules/{name}/pause", { params: { path: { name } }, body }));
    await schedulesChanged(client);
  };
  return { pause, resume: (name: string) => change.mutate({ name, verb: "resume" }), remove, error: change.error };
}
