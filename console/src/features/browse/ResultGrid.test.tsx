// @vitest-environment jsdom
import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { beforeAll, beforeEach, describe, expect, it } from "vitest";
import { draw, standIn } from "../../testing/harness";
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

beforeEach(async () => {
  localStorage.clear();
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
});
