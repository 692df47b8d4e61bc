// @vitest-environment jsdom
import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { beforeEach, describe, expect, it, vi } from "vitest";
import { answer, calls, draw, standIn } from "../../testing/harness";
import { forgetRecent, noteRecent, recentOf, thingAt } from "../../lib/recent";
import { CommandSearch } from "./CommandSearch";

standIn();
const THINGS = [
  { kind: "extract", name: "all_readings", within: "metering", detail: "", link: "/extracts/all_readings" },
  {
    kind: "table",
    name: "readings",
    within: "metering",
    detail: "table in live",
    link: "/sources/metering?table=readings",
  },
];
const left = vi.fn();
const done = vi.fn();
const options = () => within(screen.getByRole("listbox")).queryAllByRole("option");
const names = () => options().map((option) => option.querySelector("b")!.textContent);
const chosen = () =>
  options()
    .find((option) => option.getAttribute("aria-selected") === "true")!
    .querySelector("b")!;

const show = () =>
  draw(
    <CommandSearch
      person="rita"
      pages={[
        ["/runs", "Runs"],
        ["/results", "Result files"],
      ]}
      may={(role) => role === "author"}
      others={[{ name: "Dark view", run: done }]}
      onClose={left}
    />,
  );

beforeEach(() => {
  localStorage.clear();
  left.mockReset();
  done.mockReset();
  answer("GET /find", THINGS);
});

describe("the search", () => {
  it("begins with what was open last, then pages and commands, and asks for nothing yet", () => {
    const before = calls.length;
    noteRecent("rita", { kind: "run", name: "run 3", link: "/runs/3" });
    noteRecent("rita", { kind: "extract", name: "high_users", link: "/extracts/high_users" });
    noteRecent("rita", { kind: "run", name: "run 3", link: "/runs/3" });
    show();
    expect(names()).toEqual([
      ...["run 3", "high_users", "Runs", "Result files", "Your account", "New extract", "Add schedule", "Dark view"],
    ]);
    expect(calls).toHaveLength(before);
    expect(recentOf("amir")).toEqual([]);
    forgetRecent("rita");
    expect(recentOf("rita")).toEqual([]);
  });

  it("finds by the service, with what was open lately first, and pages that begin so above all", async () => {
    noteRecent("rita", { kind: "table", name: "readings", link: THINGS[1]!.link });
    show();
    const user = userEvent.setup();
    await user.type(screen.getByRole("combobox"), "r");
    await waitFor(() => expect(names().slice(0, 4)).toEqual(["Runs", "Result files", "readings", "all_readings"]));
    expect(chosen().textContent).toBe("Runs");
    await user.keyboard("{ArrowUp}");
    expect(chosen().textContent).toBe("Dark view");
    expect(screen.getByRole("combobox").getAttribute("aria-activedescendant")).toBe(
      options().find((option) => option.textContent.includes("Dark view"))!.id,
    );
    await user.keyboard("{Enter}");
    expect(left).toHaveBeenCalledOnce();
    expect(done).toHaveBeenCalledOnce();
  });

  it("says that nothing is called that", async () => {
    answer("GET /find", []);
    show();
    await userEvent.type(screen.getByRole("combobox"), "zzz");
    expect(await screen.findByText(/Nothing is called that/)).toBeTruthy();
    await userEvent.keyboard("{Enter}");
    expect(left).not.toHaveBeenCalled();
  });
});

it("knows what a page shows", () => {
  expect(thingAt("/extracts/high%20users")).toEqual({
    kind: "extract",
    name: "high users",
    link: "/extracts/high%20users",
  });
  expect(thingAt("/runs/12")!.name).toBe("run 12");
  expect(thingAt("/sources/works", "?environment=live&table=a.b&x=1")).toEqual({
    ...{ kind: "table", name: "a.b", link: "/sources/works?environment=live&table=a.b" },
  });
  for (const none of ["/", "/runs", "/schedules/a/edit", "/people"]) expect(thingAt(none)).toBeUndefined();
});
