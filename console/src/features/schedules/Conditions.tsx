import { useQuery } from "@tanstack/react-query";
import { Form, Input, InputNumber, Select } from "antd";
import { DayField } from "../../components/DayField";
import { api, must } from "../../api/client";

const choices = (...values: [string, string][]) => values.map(([value, label]) => ({ value, label }));

/** The days on which a schedule is not due, or is due on another day. */
export function DaysOff() {
  const calendars = useQuery({ queryKey: ["calendars"], queryFn: () => must(api.GET("/api/v1/calendars")) });
  return (
    <>
      <div className="pair">
        <Form.Item label="First date" name="first_date">
          <DayField />
        </Form.Item>
        <Form.Item label="Last date" name="last_date">
          <DayField />
        </Form.Item>
      </div>
      <Form.Item label="Not on these dates" name="exceptions">
        <Select mode="tags" tokenSeparators={[",", " "]} placeholder="2026-12-24" />
      </Form.Item>
      <div className="pair">
        <Form.Item
          label="Calendar of holidays"
          name="calendar"
          extra={calendars.data?.length ? undefined : "There is none yet: add one under Calendars."}
        >
          <Select allowClear options={(calendars.data ?? []).map((c) => ({ value: c.name, label: c.name }))} />
        </Form.Item>
        <Form.Item label="On a holiday" name="on_holiday">
          <Select
            options={choices(
              ["run", "run anyway"],
              ["skip", "skip it"],
              ["next_working_day", "run on the next working day"],
            )}
          />
        </Form.Item>
      </div>
    </>
  );
}

/** What happens when a run was missed, overlaps, fails or takes long. */
export function Faults() {
  return (
    <>
      <div className="pair">
        <Form.Item label="Missed while the service was down" name="catch_up">
          <Select options={choices(["latest", "run the latest"], ["all", "run all"], ["none", "run none"])} />
        </Form.Item>
        <Form.Item label="Catch up with none older than, in hours" name="catch_up_hours">
          <InputNumber min={0} style={{ width: "100%" }} />
        </Form.Item>
      </div>
      <div className="pair">
        <Form.Item label="While an earlier run goes on" name="while_running">
          <Select
            options={choices(
              ["wait", "wait for its end"],
              ["skip", "skip the due time"],
              ["parallel", "run in parallel"],
            )}
          />
        </Form.Item>
        <Form.Item label="Catch up at most" name="catch_up_limit">
          <InputNumber min={1} style={{ width: "100%" }} />
        </Form.Item>
      </div>
      <div className="pair">
        <Form.Item label="Attempts on temporary errors" name="attempts">
          <InputNumber min={1} max={20} style={{ width: "100%" }} />
        </Form.Item>
        <Form.Item label="Timeout, in minutes" name="timeout_minutes">
          <InputNumber min={1} max={10080} style={{ width: "100%" }} />
        </Form.Item>
      </div>
      <div className="pair">
        <Form.Item label="Flagged late unless finished by" name="finish_by">
          <Input type="time" />
        </Form.Item>
        <Form.Item label="Start spread over, in seconds" name="spread_seconds">
          <InputNumber min={0} max={3600} style={{ width: "100%" }} />
        </Form.Item>
      </div>
      <Form.Item label="Priority when runs queue" name="priority">
        <Select options={choices(["low", "low"], ["normal", "normal"], ["high", "high"])} />
      </Form.Item>
    </>
  );
}
