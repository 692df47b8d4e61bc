import { BarLines } from "../../components/BarLines";
import { BarChart } from "../../components/BarChart";
import type { Profile } from "../../api/client";
import { count } from "../../lib/words";

const UNIT: Record<string, string> = {
  number: "Value",
  day: "Day",
  week: "Week from",
  month: "Month",
  quarter: "Quarter",
  year: "Year",
};

/** How a bar is called: a month by its month, a range of whole numbers of one by that number. */
export function barLabel(bar: { from: string; to: string }, by: string): string {
  if (by === "number") return Number(bar.to) - Number(bar.from) === 1 ? bar.from : `${bar.from} to ${bar.to}`;
  if (by === "year") return bar.from.slice(0, 4);
  if (by === "month") return bar.from.slice(0, 7);
  return by === "quarter" ? `${bar.from.slice(0, 4)} Q${Math.ceil(Number(bar.from.slice(5, 7)) / 3)}` : bar.from;
}

/** A column at a glance. `of`: of which rows. */
export function ProfileView({ profile, of }: { profile: Profile; of: string }) {
  const { rows, absent, distinct } = profile;
  const present = rows - absent;
  const bars = profile.bars.map((bar) => ({ label: barLabel(bar, profile.bars_by), value: bar.rows }));
  const facts: [string, string | null][] = [
    ["rows", `${count(rows)}${profile.complete ? "" : "; there are more that were not looked at"}`],
    ["without a value", absent ? `${count(absent)}, ${((100 * absent) / rows).toFixed(1)} %` : rows ? "none" : null],
    [
      "distinct",
      distinct === null ? null : `${count(distinct)}${distinct === present && present > 1 ? ": each value once" : ""}`,
    ],
    ["least", profile.least],
    ["greatest", profile.greatest],
    ["mean", profile.mean],
  ];
  return (
    <section className="profile card" aria-label={`Profile of ${profile.column}`}>
      <h2>
        {profile.column}{" "}
        <small className="dim">
          {profile.kind}, {of}
        </small>
      </h2>
      <div className="profile-parts">
        <dl className="facts">
          {facts
            .filter(([, said]) => said !== null)
            .map(([name, said]) => (
              <div key={name} style={{ display: "contents" }}>
                <dt>{name}</dt>
                <dd className="mono">{said === "" ? '""' : said}</dd>
              </div>
            ))}
        </dl>
        {profile.commonest.length > 0 && distinct !== present && (
          <BarLines
            label={`Commonest values of ${profile.column}`}
            caption="Commonest values"
            lines={profile.commonest.map(([value, times]) => ({
              key: String(value),
              head: String(value).slice(0, 60) || '""',
              value: Number(times),
            }))}
          />
        )}
      </div>
      <BarChart
        bars={bars}
        what={`Rows by ${profile.bars_by === "number" ? "value" : profile.bars_by} of ${profile.column}`}
        gaps={profile.bars_by !== "number"}
        heads={[UNIT[profile.bars_by] ?? "Value", "Rows"]}
      />
      {profile.notes.map((note) => (
        <p className="flag" key={note}>
          {note}
        </p>
      ))}
      {rows === 0 && <p className="dim">There are no rows to look at.</p>}
    </section>
  );
}
