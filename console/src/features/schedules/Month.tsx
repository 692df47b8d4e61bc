import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import dayjs from "dayjs";
import { api, must, type ScheduleDay } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { stateClass } from "../../components/StateMark";
import "../../components/state.css";
import { spaced } from "../../lib/words";

const WEEKDAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

/** Weeks of seven from Monday on; days of other months are undefined. */
export function weeksOf(days: ScheduleDay[]): (ScheduleDay | undefined)[][] {
  const first = days[0];
  if (!first) return [];
  const before = (dayjs(first.date).day() + 6) % 7;
  const cells = [...Array<undefined>(before), ...days];
  const weeks = Math.ceil(cells.length / 7);
  return Array.from({ length: weeks }, (_, week) => Array.from({ length: 7 }, (_, day) => cells[week * 7 + day]));
}

function Day({ day, today }: { day: ScheduleDay; today: boolean }) {
  return (
    <>
      <div className="day-head">
        <span className={today ? "today" : ""} aria-current={today ? "date" : undefined}>
          {Number(day.date.slice(8))}
        </span>
        {day.holiday && <small title={day.holiday}>{day.holiday}</small>}
      </div>
      {Object.entries(day.counts).map(([state, count]) => (
        <div key={state} className={`day-count ${stateClass(state)}`}>
          {count > 1 && `${count} `}
          {spaced(state)}
        </div>
      ))}
      {day.to_come > 0 && <div className="day-count dim">{day.to_come > 1 ? `${day.to_come} to come` : "to come"}</div>}
    </>
  );
}

/** What became of each day of a month, and what is to come. `day`: any day of the month; empty: today's. */
export function Month({ name, day, onDay }: { name: string; day: string; onDay: (day: string) => void }) {
  const month = useQuery({
    queryKey: ["schedule-month", name, day],
    placeholderData: keepPreviousData,
    refetchInterval: 30_000,
    queryFn: () =>
      must(
        api.GET("/api/v1/schedules/{name}/month", {
          params: { path: { name }, query: { date: day || undefined } },
        }),
      ),
  });
  const days = month.data?.days ?? [];
  const first = dayjs(days[0]?.date ?? (day || undefined));
  const at = (months: number) => first.add(months, "month").format("YYYY-MM-DD");
  const now = dayjs().format("YYYY-MM-DD");
  return (
    <section aria-label="The month">
      <div className="filters month-head">
        <Button size="small" aria-label="The month before" onClick={() => onDay(at(-1))}>
          ‹
        </Button>
        <h2 aria-live="polite">{first.format("MMMM YYYY")}</h2>
        <Button size="small" aria-label="The month after" onClick={() => onDay(at(1))}>
          ›
        </Button>
        {day && (
          <Button size="small" type="text" onClick={() => onDay("")}>
            This month
          </Button>
        )}
        {month.data && !month.data.complete && <span className="dim">More are to come than are counted here.</span>}
      </div>
      <ProblemNote error={month.error} />
      <div className="month-frame" tabIndex={0} role="group" aria-label={first.format("MMMM YYYY")}>
        <table className="month">
          <thead>
            <tr>
              {WEEKDAYS.map((weekday) => (
                <th key={weekday} scope="col" abbr={weekday}>
                  {weekday.slice(0, 3)}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {weeksOf(days).map((week, place) => (
              <tr key={place}>
                {week.map((each, weekday) => (
                  <td key={WEEKDAYS[weekday]} className={each ? (weekday > 4 ? "free" : "") : "other"}>
                    {each && <Day day={each} today={each.date === now} />}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
