// @vitest-environment jsdom
import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { beforeAll, beforeEach, describe, expect, it } from "vitest";
import { answer, calls, draw, standIn } from "../../testing/harness";
import { ResultGrid } from "./ResultGrid";

standIn();
beforeAll(() => {
  // Nothing is laid out here: the window is said to be of this size.
  Object.defineProperty(HTMLElement.prototype, "clientHeight", { configurable: true, get: () => 470 });
  Object.defineProperty(HTMLElement.prototype, "clientWidth", { configurable: true, get: () => 900 });
  HTMLElement.prototype.scrollTo = () => undefined;
});

const columns = [
  { name: "district", kind: "text", source_type: "text" },
  { name: "litres", kind: "integer", source_type: "int8" },
  { name: "note", kind: "text", source_type: "text" },
];
const rows = [
  ["Alder Moor", "30", null],
  ["Birch Fen", "4", ""],
  ["Heron Holt", "200", "=1+1"],
];
const grid = () => screen.getByRole("grid");
const texts = (column: number) =>
  within(grid())
    .getAllByRole("row")
    .slice(1)
    .map((row) => within(row).getAllByRole("gridcell")[column]!.textContent);

const PROFILE = {
  ...{ column: "litres", kind: "integer", rows: 3, absent: 1, distinct: 1, least: "1", greatest: "1", mean: "1" },
  ...{ commonest: [["1", 2]], bars_by: "number", complete: true, notes: [] },
  bars: [
    { from: "0", to: "2", rows: 2 },
    { from: "2", to: "4", rows: 0 },
    { from: "4", to: "6", rows: 1 },
  ],
};

beforeEach(async () => {
  localStorage.clear();
  answer("GET /formats", {
    formats: [
      { name: "csv", extension: ".csv" },
      { name: "jsonl", extension: ".jsonl" },
    ],
  });
  draw(<ResultGrid id="1" columns={columns} rows={rows} complete label="metering.districts" />);
  await within(grid()).findByText("Alder Moor");
});

describe("rows of a look", () => {
  it("show null and empty text apart, and stand right where they are numbers", () => {
    expect(texts(2)).toEqual(["∅", '""', "=1+1"]);
    expect(within(grid()).getByText("200").className).toContain("num");
    expect(grid().getAttribute("aria-rowcount")).toBe("4");
  });

  it("are sorted up, down, and as they came", async () => {
    for (const expected of [
      ["4", "30", "200"],
      ["200", "30", "4"],
      ["30", "4", "200"],
    ]) {
      await userEvent.click(within(grid()).getByRole("button", { name: /^litres/ }));
      await waitFor(() => expect(texts(1)).toEqual(expected));
    }
  });

  it("are gone through by keys, chosen together, and copied with their names", async () => {
    const user = userEvent.setup();
    grid().focus();
    await user.keyboard("{ArrowDown}{ArrowDown}{ArrowRight}");
    expect(grid().querySelector(".active")?.textContent).toBe("4");
    await user.keyboard("{Shift>}{ArrowDown}{/Shift}");
    expect([...grid().querySelectorAll(".picked")].map((cell) => cell.textContent)).toEqual(["4", "200"]);
    expect(screen.getByText(/2 cells chosen/)).toBeTruthy();
    await user.keyboard("{Control>}c{/Control}");
    await waitFor(async () => expect(await navigator.clipboard.readText()).toBe("litres\n4\n200"));
  });

  it("are marked by a click on their number, many with Shift", async () => {
    const user = userEvent.setup();
    await user.click(screen.getByRole("button", { name: "Mark row 1" }));
    await user.keyboard("{Shift>}");
    await user.click(screen.getByRole("button", { name: "Mark row 3" }));
    await user.keyboard("{/Shift}");
    expect(screen.getByText(/, 3 marked/)).toBeTruthy();
    expect(grid().querySelectorAll(".marked")).toHaveLength(3);
  });

  it("hide and move columns, stand on their side, and one at a time", async () => {
    await userEvent.click(screen.getByRole("button", { name: "Columns" }));
    await userEvent.click(await screen.findByRole("checkbox", { name: "litres" }));
    await waitFor(() => expect(texts(1)).toEqual(["∅", '""', "=1+1"]));
    await userEvent.click(screen.getByRole("button", { name: "Move note left" }));
    await userEvent.click(screen.getByRole("button", { name: "Move note left" }));
    await waitFor(() => expect(texts(0)).toEqual(["∅", '""', "=1+1"]));
    await userEvent.click(screen.getByText("Transposed"));
    await waitFor(() => expect(within(grid()).getByRole("rowheader", { name: "district" })).toBeTruthy());
    expect(texts(2)).toEqual(["=1+1", "Heron Holt"]);
    await userEvent.click(screen.getByText("One record"));
    await userEvent.click(screen.getByRole("button", { name: "Next" }));
    expect(screen.getByLabelText("Row 2").textContent).toContain("Birch Fen");
  });

  it("are searched: places are counted and gone through by keys, their rows marked", async () => {
    const user = userEvent.setup();
    await user.type(screen.getByRole("textbox", { name: "Find in these rows" }), "O");
    expect(screen.getByText("2 places in 2 rows")).toBeTruthy();
    await user.keyboard("{Enter}");
    expect(screen.getByText("1 of 2 places in 2 rows")).toBeTruthy();
    expect(grid().querySelector(".active mark")!.textContent).toBe("o");
    await user.keyboard("{Shift>}{Enter}{/Shift}");
    expect(screen.getByText("2 of 2 places in 2 rows")).toBeTruthy();
    await user.click(screen.getByRole("button", { name: "Mark 2 rows" }));
    expect(screen.getByRole("button", { name: "Save 2 marked rows" })).toBeTruthy();
    await user.type(screen.getByRole("textbox", { name: "Find in these rows" }), "zzz");
    expect(screen.getByText(/Not in these rows/)).toBeTruthy();
  });

  it("are saved by the service as they are marked, in the format that is chosen", async () => {
    const user = userEvent.setup();
    URL.createObjectURL = () => "blob:";
    URL.revokeObjectURL = () => undefined;
    answer("POST /queries/1/file", () => new Response("x"));
    await user.click(screen.getByRole("button", { name: "Mark row 2" }));
    await user.click(screen.getByRole("combobox", { name: "Save these rows as" }));
    await user.click(await screen.findByTitle("jsonl"));
    await waitFor(() => expect(calls.at(-1)!.what).toBe("POST /queries/1/file"));
    expect(calls.at(-1)!.body).toEqual({ format: "jsonl", rows: [1], columns: [0, 1, 2], escape_formulas: false });
  });

  it("tell a column at a glance", async () => {
    const user = userEvent.setup();
    answer("GET /queries/1/profile", { ...PROFILE });
    await user.click(screen.getByRole("combobox", { name: "Profile of a column" }));
    await user.click(await screen.findByTitle("litres"));
    const told = await screen.findByRole("region", { name: "Profile of litres" });
    expect(told.textContent).toContain("4 to 6"); // the axis
    expect(within(told).getByRole("img", { name: /most at 0 to 2 with 2/ })).toBeTruthy();
    expect(told.textContent).toContain("1, 33.3 %");
  });
});
