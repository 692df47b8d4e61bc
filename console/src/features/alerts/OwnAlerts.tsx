import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Input, Select } from "antd";
import { api, must } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import "./alerts.css";

const choices = [
  { value: "failed", label: "when they fail" },
  { value: "ended", label: "when they end" },
  { value: "nothing", label: "never" },
] as const;

/** What one is told of runs that one starts oneself. */
export function OwnAlerts() {
  const client = useQueryClient();
  const own = useQuery({ queryKey: ["own-alerts"], queryFn: () => must(api.GET("/api/v1/me/alerts")) });
  const choose = useMutation({
    mutationFn: (body: { own_runs?: string; mail?: string }) => must(api.PATCH("/api/v1/me/alerts", { body })),
    onSuccess: (made) => client.setQueryData(["own-alerts"], made),
  });
  if (!own.data) return <ProblemNote error={own.error} />;
  const mail = own.data.mail;
  return (
    <div className="own">
      <label>
        Tell me of runs that I start{" "}
        <Select
          aria-label="Tell me of runs that I start"
          value={own.data.own_runs}
          options={[...choices]}
          onChange={(own_runs) => choose.mutate({ own_runs })}
          style={{ width: 140 }}
        />
      </label>
      {own.data.own_runs !== "nothing" && (
        <label>
          also by mail to{" "}
          <Input
            key={mail}
            type="email"
            defaultValue={mail}
            placeholder="nobody"
            style={{ width: 230 }}
            onBlur={(e) => e.target.value !== mail && choose.mutate({ mail: e.target.value })}
            onPressEnter={(e) => e.currentTarget.blur()}
          />
        </label>
      )}
      {mail && !own.data.by_mail && (
        <small>
          No channel takes alerts to people yet: <span className="mono">ladle channel edit NAME --for-people yes</span>
        </small>
      )}
      <ProblemNote error={choose.error} />
    </div>
  );
}
