import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Form, Input, Segmented } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, must, type Calendar } from "../../api/client";
import { FormDialog } from "../../components/FormDialog";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { useRemoval } from "../../components/useRemoval";
import { amount } from "../../lib/words";
import { useMe } from "../session/useMe";

interface Fields {
  name: string;
  of: "country" | "file";
  country?: string;
  region?: string;
  text?: string;
}

/** Reads a file that was chosen into the field. */
function CalendarFile({ id, onChange }: { id?: string; value?: string; onChange?: (text: string) => void }) {
  return (
    <input
      id={id}
      type="file"
      accept=".ics,text/calendar"
      onChange={(e) => void e.target.files?.[0]?.text().then((text) => onChange?.(text))}
    />
  );
}

/** A calendar of a country, or of a file; one that is there is given other days. */
function CalendarForm({ calendar, onClose }: { calendar: Calendar | null; onClose: () => void }) {
  const [form] = Form.useForm<Fields>();
  const client = useQueryClient();
  const of = Form.useWatch("of", form) ?? "country";
  const save = useMutation({
    mutationFn: ({ name, country = "", region = "", text = "" }: Fields) =>
      must(
        api.POST("/api/v1/calendars", {
          body: { name, ...(of === "country" ? { country: country.toUpperCase(), region } : { text }) },
        }),
      ),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["calendars"] });
      onClose();
    },
  });
  const first: Partial<Fields> = calendar
    ? { ...calendar, of: calendar.country ? "country" : "file" }
    : { of: "country" };
  return (
    <FormDialog
      title={calendar ? `Other days for ${calendar.name}` : "Add calendar"}
      of={`calendar ${calendar?.name ?? ""}`}
      form={form}
      first={first}
      okText={calendar ? "Save" : "Add"}
      pending={save.isPending}
      error={save.error}
      onSend={(fields) => save.mutateAsync(fields)}
      onClose={onClose}
    >
      <Form.Item
        label="Name"
        name="name"
        hidden={!!calendar}
        rules={[{ required: true, message: "A name is needed." }]}
      >
        <Input placeholder="england" />
      </Form.Item>
      <Form.Item label="Its days come from" name="of">
        <Segmented
          options={[
            { value: "country", label: "a country" },
            { value: "file", label: "an iCalendar file" },
          ]}
        />
      </Form.Item>
      {of === "country" ? (
        <>
          <Form.Item
            label="Country"
            name="country"
            extra="Two letters, as in GB (ISO 3166-1)."
            rules={[{ required: true, message: "A country is needed." }]}
          >
            <Input style={{ width: 120 }} maxLength={2} />
          </Form.Item>
          <Form.Item label="Region" name="region" extra="As in ENG (ISO 3166-2). Empty: the whole country.">
            <Input style={{ width: 120 }} maxLength={16} />
          </Form.Item>
        </>
      ) : (
        <Form.Item
          label="File"
          name="text"
          extra="With an event for each holiday; recurring ones too."
          rules={[{ required: true, message: "A file is needed." }]}
        >
          <CalendarFile />
        </Form.Item>
      )}
    </FormDialog>
  );
}

/** Calendars of holidays, which schedules mind. */
export function CalendarsPage() {
  const { may } = useMe();
  const [edited, setEdited] = useState<Calendar | "new" | null>(null);
  const list = useQuery({ queryKey: ["calendars"], queryFn: () => must(api.GET("/api/v1/calendars")) });
  const removal = useRemoval("calendars", (name: string) =>
    must(api.DELETE("/api/v1/calendars/{name}", { params: { path: { name } } })),
  );
  const author = may("author");
  return (
    <div className="page">
      <header className="head">
        <h1>Calendars</h1>
        <p>Holidays, which schedules leave out or move away from.</p>
        <div className="grow" />
        {author && (
          <Button type="primary" onClick={() => setEdited("new")}>
            Add calendar
          </Button>
        )}
      </header>
      <ProblemNote error={list.error ?? removal.error} />
      <RecordTable<Calendar>
        rows={list.data}
        width={640}
        columns={[
          {
            title: "Calendar",
            key: "name",
            width: 160,
            render: (_, c) =>
              author ? (
                <button type="button" className="plain" onClick={() => setEdited(c)}>
                  {c.name}
                </button>
              ) : (
                c.name
              ),
          },
          {
            title: "Of",
            key: "of",
            width: 150,
            render: (_, c) => (c.country ? `${c.country} ${c.region}` : "an iCalendar file"),
          },
          {
            title: "Holidays of this year and the next",
            key: "days",
            render: (_, c) => (
              <details>
                <summary>{amount(Object.keys(c.days).length, "day")}</summary>
                <ul className="days">
                  {Object.entries(c.days).map(([day, name]) => (
                    <li key={day}>
                      <span className="mono">{day}</span> {name}
                    </li>
                  ))}
                </ul>
              </details>
            ),
          },
          {
            title: "Minded by",
            key: "used",
            width: 240,
            render: (_, c) =>
              c.used_by.length ? (
                c.used_by.map((name, place) => (
                  <span key={name}>
                    {place > 0 && ", "}
                    <Link to={`/schedules/${name}`}>{name}</Link>
                  </span>
                ))
              ) : (
                <span className="dim">no schedule yet</span>
              ),
          },
          {
            title: <span className="sr">Remove</span>,
            key: "do",
            width: 90,
            render: (_, c) =>
              author &&
              c.used_by.length === 0 && (
                <Button
                  size="small"
                  aria-label={`Remove ${c.name}`}
                  onClick={() => removal.ask(c.name, `Remove ${c.name}?`, "Its days are gone.")}
                >
                  Remove
                </Button>
              ),
          },
        ]}
        empty={
          <>
            <p>Without a calendar schedules know weekends, and no holidays.</p>
            {author && <Button onClick={() => setEdited("new")}>Add the first one</Button>}
          </>
        }
      />
      {edited && <CalendarForm calendar={edited === "new" ? null : edited} onClose={() => setEdited(null)} />}
    </div>
  );
}
