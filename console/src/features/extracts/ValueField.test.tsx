// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { expect, it } from "vitest";
import type { Parameter } from "../../api/client";
import { answer, draw, standIn } from "../../testing/harness";
import { ValueField } from "./ValueField";

standIn();

const ROWS = [
  ["N", "North"],
  ["S", "South"],
  ["W", null],
  [null, "nowhere"],
];

function Field({ lookup }: { lookup: Record<string, string> }) {
  const [value, set] = useState<string>();
  const parameter = {
    name: "zone",
    type: "text",
    is_list: false,
    allowed: [],
    choices: {},
    lookup,
  } as never as Parameter;
  const more = { value, onChange: set, "aria-label": "zone" };
  return (
    <>
      <ValueField {...more} parameter={parameter} extract="x" environment="live" dataDate={undefined} />
      <output>{value}</output>
    </>
  );
}

it("offers what its lookup has, with words, found as one types", async () => {
  answer("GET /lookups/letters/rows", (_: unknown, address: URL) => {
    const find = address.searchParams.get("find") ?? "";
    const rows = ROWS.filter((row) => row.some((each) => each?.toLowerCase().includes(find.toLowerCase())));
    const columns = ["letter", "title"].map((name) => ({ name, kind: "text" }));
    return { revision: 1, columns, key: ["letter"], total: rows.length + 2_000, rows };
  });
  draw(<Field lookup={{ name: "letters", column: "LETTER", label: "title" }} />);
  await userEvent.click(screen.getByLabelText("zone"));
  expect(await screen.findByTitle("North (N)")).toBeTruthy();
  expect(screen.getByTitle("W")).toBeTruthy();
  expect(screen.queryByTitle(/nowhere/)).toBeNull();
  expect(screen.getByText("2,000 more in the lookup letters: type to find them")).toBeTruthy();
  await userEvent.type(screen.getByLabelText("zone"), "sou");
  await userEvent.click(await screen.findByTitle("South (S)"));
  expect(screen.getByRole("status").textContent).toBe("S");
});
