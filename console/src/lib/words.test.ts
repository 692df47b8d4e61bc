import { expect, it } from "vitest";
import { count, momentIn, publishedWords, size, spaced, took, sentence } from "./words";

it("groups digits and shows absence", () => {
  expect([count(500000), count(0), count(null)]).toEqual(["500,000", "0", "–"]);
});

it("says durations in the largest two units", () => {
  const from = "2026-11-24T06:00:00Z";
  const to = ["06:00:04.240", "06:12:05", "09:07:00"].map((t) => took(from, `2026-11-24T${t}Z`));
  expect(to).toEqual(["4.2 s", "12 min 05 s", "3 h 07 min"]);
  expect(took(null, null)).toBe("–");
});

it("shows a zone's own clocks on both sides of a change", () => {
  expect(momentIn("2027-03-01T05:00:00Z", "Europe/London")).toBe("2027-03-01 05:00");
  expect(momentIn("2027-04-01T04:00:00Z", "Europe/London")).toBe("2027-04-01 05:00");
});

it("says sizes in powers of a thousand", () => {
  expect([size(999), size(34_290_702), size(2e9)]).toEqual(["999 bytes", "34.3 MB", "2.0 GB"]);
});

it("shows codes as words", () => {
  expect([spaced("not_run"), spaced("at_least"), spaced("failed")]).toEqual(["not run", "at least", "failed"]);
});

it("begins a sentence with a capital, and leaves names alone", () => {
  const given = ["the database said no", "csv: 'ab' cannot be", "d.nmae is none", "'x' is none", "no.", "", "Éa b"];
  expect(given.map(sentence)).toEqual([
    "The database said no",
    "csv: 'ab' cannot be",
    "d.nmae is none",
    "'x' is none",
    "no.",
    "",
    "Éa b",
  ]);
});

it("says that a result is published only where readers have it", () => {
  const run = { published: true, held: "", state: "finished", delivery: "delivered" };
  const given = [
    run,
    { ...run, delivery: "" },
    { ...run, delivery: "waiting" },
    { ...run, delivery: "failed" },
    { ...run, held: "held" },
    { ...run, held: "rejected" },
    { ...run, state: "not_run" },
    { ...run, published: false },
  ];
  expect(given.map(publishedWords)).toEqual([
    "yes",
    "yes",
    "yes; not delivered yet",
    "yes; not delivered",
    "not before it is released",
    "no: it is rejected",
    "no: it is not run",
    "no: a trial",
  ]);
});
