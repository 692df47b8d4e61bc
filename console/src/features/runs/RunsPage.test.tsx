// @vitest-environment jsdom
import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { beforeEach, describe, expect, it } from "vitest";
import { answer, draw, standIn } from "../../testing/harness";
import { RunsPage } from "./RunsPage";

standIn();

const run = (id: number, more: object = {}) => ({
  id,
  extract: `extract_${id}`,
  folder: "regulation",
  environment: "live",
  state: "finished",
  data_date: "2026-11-24",
  started_at: "2026-11-24T06:00:00Z",
  ended_at: "2026-11-24T06:00:04Z",
  rows: id,
  started_by: "rosa",
  ...more,
});
let asked: URLSearchParams[] = [];

beforeEach(() => {
  asked = [];
  answer("GET /me", { name: "rosa", role: "runner" });
  answer("GET /status", { counts: { failed: 2 }, nothing_runs: [] });
  answer("GET /environments", [{ name: "live" }]);
  answer("GET /runs", (_: unknown, { searchParams }: URL) => {
    asked.push(searchParams);
    const failed = run(2, { state: "failed", rows: null, error: { message: "the source is away.", hint: "" } });
    return { next: null, previous: null, results: searchParams.get("search") ? [] : [run(1), failed] };
  });
});

describe("the list of runs", () => {
  it("says what is wrong beside the run, and how many of each state a day had", async () => {
    draw(<RunsPage />);
    const line = (await screen.findByText("The source is away.")).closest("tr")!;
    expect(within(line).getByRole("link", { name: "extract_2" }).getAttribute("href")).toBe("/runs/2");
    expect(within(line).getByText("Failed")).toBeTruthy();
    await waitFor(() => expect(screen.getByRole("button", { name: "2 failed" })).toBeTruthy());
  });

  it("is sorted and narrowed by the service, as its address says", async () => {
    draw(<RunsPage />, "/runs?state=held&from=2026-11-24&to=2026-11-25");
    await screen.findByText("extract_1");
    expect(asked.at(-1)!.get("state")).toBe("held");
    const [since, until] = ["since", "until"].map((name) => Date.parse(asked.at(-1)!.get(name)!));
    expect(until! - since!).toBe(2 * 86_400_000); // both days whole
    await userEvent.click(screen.getByRole("columnheader", { name: /^Rows/ }));
    await waitFor(() => expect(asked.at(-1)!.get("sort")).toBe("rows"));
    expect(asked.at(-1)!.get("descending")).toBeNull();
    await userEvent.click(screen.getByRole("columnheader", { name: /^Rows/ }));
    await waitFor(() => expect(asked.at(-1)!.get("descending")).toBe("true"));
    expect(screen.getByRole("columnheader", { name: /^Rows/ }).getAttribute("aria-sort")).toBe("descending");
  });

  it("tells nothing found from nothing there", async () => {
    draw(<RunsPage />, "/runs?search=leak");
    expect(await screen.findByText("No run is like that. Say less of it, or show all.")).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Show all" }));
    expect(await screen.findByText("extract_1")).toBeTruthy();
  });
});
