import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App } from "antd";

/** Ends or removes something after one question; lists under `keys` are asked for anew. */
export function useRemoval<Id>(keys: string | string[], remove: (id: Id) => Promise<unknown>) {
  const { modal } = App.useApp();
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: remove,
    onSuccess: () => Promise.all([keys].flat().map((key) => client.invalidateQueries({ queryKey: [key] }))),
  });
  const ask = (id: Id, title: string, content: string, okText = "Remove") =>
    void modal.confirm({
      title,
      content,
      okText,
      okButtonProps: { danger: true },
      onOk: () => change.mutateAsync(id).catch(() => undefined),
    });
  return { ask, error: change.error };
}
