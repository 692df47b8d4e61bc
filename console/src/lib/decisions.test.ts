import { describe, expect, it } from "vitest";
import type { Parameter, Run, Schedule, Source } from "../api/client";
import { asksWords, becameWords, givesWords, goesWords, holdsWords, listed, readsWords, runsWords } from "./decisions";

const parameter = (more: Partial<Parameter>) =>
  ({ name: "zone", default: null, required: true, shared: "", ...more }) as Parameter;

describe("what an extract decides, in a line each", () => {
  it("puts names in a row as a sentence has them", () => {
    expect(["", "a", "a and b", "a, b and c"]).toEqual([[], ["a"], ["a", "b"], ["a", "b", "c"]].map(listed));
  });

  it("says what it reads, also where that is nothing or not known yet", () => {
    const source = { engine: "sqlite", addresses: [{ environment: "live" }, { environment: "rehearsal" }] } as Source;
    expect(readsWords("laboratory", source)).toBe("laboratory (sqlite), in live and rehearsal, read-only");
    expect(readsWords("laboratory", { ...source, addresses: [] })).toContain("without an address yet");
    expect(readsWords("laboratory", undefined)).toBe("laboratory");
    expect(readsWords("", undefined)).toBe("Nothing: it computes from its values.");
  });

  it("says what it asks: what is given unless somebody says otherwise", () => {
    expect(asksWords([])).toBe("No values.");
    expect(
      asksWords([
        parameter({ default: ["North", "South"] }),
        parameter({ name: "days", default: 7 }),
        parameter({ name: "crew", required: false }),
        parameter({ name: "since" }),
        parameter({ name: "limit", shared: "pressure_standard" }),
        parameter({ name: "all", default: false }),
      ]),
    ).toBe(
      "zone: North, South; days: 7; crew: may be empty; since: must be given; limit: the shared value pressure_standard; all: false",
    );
  });

  it("says what it gives, and counts options of its own formats only", () => {
    expect(givesWords(["csv"], "", {})).toBe("csv");
    expect(
      givesWords(["csv", "xlsx"], "use-{data_date}", {
        formats: { csv: { delimiter: ";" }, json: { indent: 2 } },
        columns: [{ name: "zone" }],
        files: { compression: "gzip", if_exists: "fail" },
      }),
    ).toBe("csv and xlsx, named use-{data_date}; 1 column chosen; 2 options set");
    expect(givesWords([], "", {})).toBe("No file");
  });

  it("says every guard with what becomes of a result that breaks it", () => {
    expect(holdsWords([])).toContain("every result is delivered");
    expect(
      holdsWords([
        { guard: "rows", at_least: 1, at_most: 2000, then: "hold" },
        { guard: "not_empty", then: "warn" },
        { guard: "change", percent: 20, of_last: 8, same: "weekday", then: "hold" },
        { guard: "columns", then: "hold" },
        { guard: "not_null", columns: ["a", "b"], then: "warn" },
        { guard: "no_duplicate", columns: ["a"], then: "hold" },
        { guard: "one_of_later", then: "hold" },
      ]),
    ).toBe(
      "At least 1 row, at most 2,000 rows, else held; not empty, else warned of; rows within 20 % of the last 8 runs of the same weekday, else held; " +
        "columns as they were, else held; no null in a and b, else warned of; no duplicate of a, else held; one of later, else held",
    );
  });

  it("says where it goes and what becomes of a file that stands there", () => {
    expect(goesWords(" ", {})).toContain("result store only");
    expect(goesWords("a, b;c", {})).toBe("Into a, b and c; a file of that name is overwritten");
    expect(goesWords("a", { files: { if_exists: "rename" } })).toContain("the new one is renamed");
    expect(goesWords("a", { files: { if_exists: "fail" } })).toContain("the run fails");
  });

  it("says when it runs and what became of it", () => {
    const daily = { name: "d", rule: "daily 06:00", zone: "UTC", next_due: [{ at: "2026-11-30T06:00:00Z" }] };
    expect(runsWords([])).toBe("By hand only: no schedule runs it.");
    expect(
      runsWords([daily, { ...daily, name: "p", paused_at: "x" }, { ...daily, name: "o", next_due: [] }] as never),
    ).toBe("d: daily 06:00, next 2026-11-30 06:00; p: daily 06:00, paused; o: daily 06:00, nothing is left to come");
    const run = { id: 7, queued_at: "2026-11-29T06:00:00Z", state: "finished", rows: 57, held: "held", late: true };
    expect(becameWords(undefined)).toBe("It has not run yet.");
    expect(becameWords(run as Run)).toMatch(/^Run 7, 2026-11-29 \d\d:00: finished with 57 rows, held, late$/);
    expect(becameWords({ ...run, state: "not_run", held: "", late: false } as never)).toMatch(/: not run$/);
    expect(runsWords([daily as never as Schedule])).toContain("next");
  });
});
