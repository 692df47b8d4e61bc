import { useDeferredValue } from "react";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { AutoComplete, Form, Input, Select } from "antd";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { api, must, type Schedule } from "../../api/client";
import { NotYours } from "../../components/NotYours";
import { Boundary } from "../../components/Boundary";
import { FormPage, FormPart } from "../../components/FormPage";
import { ProblemNote } from "../../components/ProblemNote";
import { momentIn } from "../../lib/words";
import { valuesOf, type Field } from "../../lib/values";
import { ParameterFields } from "../extracts/ParameterFields";
import { useMe } from "../session/useMe";
import { FormatBoxes } from "../writing/OutputSettings";
import { DaysOff, Faults } from "./Conditions";
import { schedulesChanged } from "./useScheduleChanges";
import "./schedules.css";

interface Fields {
  name: string;
  extract: string;
  environment: string;
  rule: string;
  zone: string;
  formats: string[];
  values: Record<string, Field>;
  then: string[];
  first_date?: string | null;
  last_date?: string | null;
  exceptions: string[];
  calendar?: string | null;
  on_holiday: string;
  catch_up: string;
  catch_up_hours?: number | null;
  catch_up_limit?: number | null;
  while_running: string;
  spread_seconds: number;
  attempts: number;
  timeout_minutes: number;
  finish_by?: string | null;
  priority: string;
  deliver_into: string;
}

const usual = {
  formats: [],
  values: {},
  then: [],
  exceptions: [],
  on_holiday: "run",
  catch_up: "latest",
  while_running: "wait",
  spread_seconds: 0,
  attempts: 3,
  timeout_minutes: 1440,
  priority: "normal",
  deliver_into: "",
};

/** Add or edit; the next due times of the rule are shown as it is typed. */
function ScheduleForm({ schedule, of }: { schedule: Schedule | null; of?: string | undefined }) {
  const [form] = Form.useForm<Fields>();
  const go = useNavigate();
  const client = useQueryClient();
  const extracts = useQuery({ queryKey: ["extracts", "", false], queryFn: () => must(api.GET("/api/v1/extracts")) });
  const { me } = useMe();
  const environments = useQuery({ queryKey: ["environments"], queryFn: () => must(api.GET("/api/v1/environments")) });
  const rule = useDeferredValue(Form.useWatch("rule", form) ?? "");
  const all = useDeferredValue(Form.useWatch([], { form, preserve: true }) as Partial<Fields> | undefined);
  const zone = all?.zone ?? "";
  const timing = {
    zone: zone || undefined,
    first_date: all?.first_date || undefined,
    last_date: all?.last_date || undefined,
    exceptions: all?.exceptions?.join(",") || undefined,
    calendar: all?.calendar || undefined,
    on_holiday: all?.on_holiday || undefined,
  };
  const next = useQuery({
    queryKey: ["rule-times", rule, timing],
    enabled: rule.trim() !== "",
    placeholderData: keepPreviousData,
    queryFn: () => must(api.GET("/api/v1/rule-times", { params: { query: { rule, ...timing } } })),
  });
  const chosen = Form.useWatch("extract", form);
  const environment = Form.useWatch("environment", form);
  const extract = useQuery({
    queryKey: ["extract", chosen],
    enabled: !!chosen,
    queryFn: () => must(api.GET("/api/v1/extracts/{name}", { params: { path: { name: chosen } } })),
  });
  const parameters = chosen ? (extract.data?.revision.parameters ?? []) : [];
  const save = useMutation({
    mutationFn: ({ name, values, then, ...rest }: Fields) => {
      const kept = new Map(schedule?.then.map((step) => [step.extract, step]));
      const none = {
        first_date: rest.first_date || null,
        last_date: rest.last_date || null,
        calendar: rest.calendar || null,
        finish_by: rest.finish_by || null,
        catch_up_hours: rest.catch_up_hours ?? null,
        catch_up_limit: rest.catch_up_limit ?? null,
      };
      const body = {
        ...rest,
        ...none,
        values: valuesOf(parameters, values ?? {}),
        then: then.map((one) => ({
          extract: one,
          values: kept.get(one)?.values ?? {},
          formats: kept.get(one)?.formats ?? [],
        })),
      };
      return must(
        schedule
          ? api.PATCH("/api/v1/schedules/{name}", { params: { path: { name: schedule.name } }, body })
          : api.POST("/api/v1/schedules", { body: { name, ...body } }),
      );
    },
    onSuccess: async (saved) => {
      await schedulesChanged(client);
      void go(`/schedules/${saved.name}`, { replace: true });
    },
  });
  const first = schedule
    ? {
        ...schedule,
        then: schedule.then.map((step) => step.extract),
        values: Object.fromEntries(
          Object.entries(schedule.values).map(([name, value]) => [
            name,
            typeof value === "number" ? String(value) : (value as Field),
          ]),
        ),
      }
    : {
        ...usual,
        ...(of ? { extract: of } : {}),
        rule: "weekdays 06:30",
        zone: me.data?.zone ?? "UTC",
        environment: environments.data?.[0]?.name,
      };
  if (!environments.data) return null;
  return (
    <FormPage
      title={schedule ? `Edit ${schedule.name}` : "Add schedule"}
      of={`schedule ${schedule?.name ?? ""}`}
      form={form}
      first={first}
      okText="Save schedule"
      pending={save.isPending}
      error={save.error}
      onSend={(fields) => save.mutateAsync(fields)}
      onLeave={() => void go(schedule ? `/schedules/${schedule.name}` : "/schedules")}
    >
      <FormPart title="What runs" words="One extract, and others after it once it has finished.">
        {!schedule && (
          <Form.Item label="Name" name="name" rules={[{ required: true, message: "A name is needed." }]}>
            <Input autoFocus placeholder="users-daily" />
          </Form.Item>
        )}
        <div className="pair">
          <Form.Item label="Extract" name="extract" rules={[{ required: true, message: "Choose an extract." }]}>
            <Select showSearch options={(extracts.data ?? []).map((e) => ({ value: e.name, label: e.name }))} />
          </Form.Item>
          <Form.Item label="Environment" name="environment">
            <Select options={environments.data.map((e) => ({ value: e.name, label: e.name }))} />
          </Form.Item>
        </div>
        <Form.Item label="Run afterwards, in order" name="then">
          <Select
            mode="multiple"
            placeholder="none"
            options={(extracts.data ?? [])
              .filter((e) => e.name !== chosen)
              .map((e) => ({ value: e.name, label: e.name }))}
          />
        </Form.Item>
      </FormPart>
      <FormPart title="With" words="Values left empty are the extract’s own.">
        <ParameterFields
          parameters={parameters}
          extract={chosen}
          environment={environment}
          dataDate={undefined}
          within={["values"]}
        />
        <Form.Item label="Formats" name="formats" extra="None: those of the extract.">
          <FormatBoxes />
        </Form.Item>
      </FormPart>
      <FormPart title="When" words="The next due times are shown as the rule is typed.">
        <div className="pair">
          <Form.Item label="Rule, in words or five crontab fields" name="rule">
            <AutoComplete
              options={(next.data?.forms ?? []).map((value) => ({ value }))}
              filterOption={(typed, one) => !!one && one.value !== typed && one.value.startsWith(typed)}
            />
          </Form.Item>
          <Form.Item label="Time zone" name="zone">
            <Input />
          </Form.Item>
        </div>
        {next.error ? (
          <ProblemNote error={next.error} />
        ) : (
          <Boundary what="The next due times">
            <ol aria-live="polite" aria-label="Next due times" className="moments">
              {next.data?.next_due.map((m) => (
                <li key={m.at}>
                  {momentIn(m.at, zone || "UTC")}
                  {m.note && <small> {m.note}</small>}
                </li>
              ))}
            </ol>
          </Boundary>
        )}
        <DaysOff />
      </FormPart>
      <FormPart title="Where it goes">
        <Form.Item
          label="Delivery folders of its own"
          name="deliver_into"
          extra="Separated by commas. Empty: where each extract says."
        >
          <Input className="mono" />
        </Form.Item>
      </FormPart>
      <FormPart title="When something goes wrong" words="A run that was missed, overlaps, fails or takes long.">
        <Faults />
      </FormPart>
    </FormPage>
  );
}

/** A schedule to edit, on a page of its own. */
export function ScheduleEditPage() {
  const name = useParams().name!;
  const { may } = useMe();
  const query = useQuery({
    queryKey: ["schedule", name, "to edit"],
    gcTime: 0, // what somebody has saved since is not overlooked
    staleTime: Infinity, // what is typed is not overtaken
    queryFn: () => must(api.GET("/api/v1/schedules/{name}", { params: { path: { name } } })),
  });
  if (!may("author")) return <AuthorsOnly />;
  return query.data ? (
    <ScheduleForm schedule={query.data} />
  ) : (
    <div className="page">
      <ProblemNote error={query.error} />
    </div>
  );
}

/** A new one, of the extract that the address names. */
export function NewSchedulePage() {
  const { may } = useMe();
  const [params] = useSearchParams();
  return may("author") ? <ScheduleForm schedule={null} of={params.get("extract") ?? undefined} /> : <AuthorsOnly />;
}

const AuthorsOnly = () => (
  <NotYours title="Schedule">Schedules are kept by authors. Ask an administrator for the role.</NotYours>
);
