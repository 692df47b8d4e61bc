import { StarFilled, StarOutlined } from "@ant-design/icons";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, must } from "../../api/client";
import "./extracts.css";

/** Puts an extract among one's favourites, or takes it out; undefined as long as it is not known which. */
export function Star({ name, favourite }: { name: string; favourite?: boolean }) {
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: async (to: boolean) => {
      const params = { path: { name } };
      await (to
        ? must(api.PUT("/api/v1/extracts/{name}/favourite", { params }))
        : must(api.DELETE("/api/v1/extracts/{name}/favourite", { params })));
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["extracts"] }),
  });
  return (
    <button
      type="button"
      className="star"
      aria-pressed={!!favourite}
      disabled={favourite === undefined}
      aria-label={`${name} among your favourites`}
      onClick={() => change.mutate(!favourite)}
    >
      {favourite ? <StarFilled /> : <StarOutlined />}
    </button>
  );
}
