// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useEffect, useState } from "react";
import { describe, expect, it } from "vitest";
import type { Parameter } from "../../api/client";
import { answer, draw, standIn } from "../../testing/harness";
import { Declare, Parameters, undeclared } from "./Parameters";

standIn();

let now: Parameter[] = [];
function Written({ first = [], used = [] }: { first?: Parameter[]; used?: string[] }) {
  const [parameters, set] = useState(first);
  useEffect(() => {
    now = parameters;
  });
  return (
    <>
      <Declare names={undeclared(parameters, used)} parameters={parameters} onChange={set} />
      <Parameters parameters={parameters} shared={[]} sources={[]} onChange={set} />
    </>
  );
}

describe("names that are not declared", () => {
  it("are those that nothing gives a value: a period gives two, two are built in", () => {
    const period = { name: "nights", type: "period" } as Parameter;
    const used = ["zone", "nights_from", "nights_to", "data_date", "due_time"];
    expect(undeclared([period], used)).toEqual(["zone"]);
    expect(undeclared([], used)).toEqual(["zone", "nights_from", "nights_to"]);
  });
});

describe("declarations of parameters", () => {
  it("are made by one press from the statement, and changed in place", async () => {
    draw(<Written used={["zone", "since"]} />);
    await userEvent.click(screen.getByRole("button", { name: "Declare :zone" }));
    expect(screen.queryByRole("button", { name: "Declare :zone" })).toBeNull();
    expect(now[0]).toMatchObject({ name: "zone", type: "text", required: true, is_list: false });
    await userEvent.click(screen.getByRole("checkbox", { name: "zone is a list" }));
    await userEvent.click(screen.getByRole("checkbox", { name: "zone is required" }));
    const first = screen.getByLabelText("Default of zone");
    await userEvent.type(first, "North, South{Enter}");
    expect(now[0]).toMatchObject({ is_list: true, required: false, default: ["North", "South"] });
    await userEvent.click(screen.getByRole("button", { name: "Remove zone" }));
    expect(now).toEqual([]);
    expect(screen.getByRole("button", { name: "Declare :zone" })).toBeTruthy();
  });

  it("speak when a field is left, so that half a list is never read", async () => {
    draw(
      <Written
        first={[
          {
            name: "zones",
            type: "text",
            is_list: true,
            default: null,
            allowed: [],
            labels: {},
            choices: {},
            lookup: {},
          } as never,
        ]}
      />,
    );
    const field = screen.getByLabelText("Default of zones");
    await userEvent.type(field, "North, So");
    expect(now[0]?.default).toBeNull();
    await userEvent.tab();
    expect(now[0]?.default).toEqual(["North", "So"]);
    await userEvent.clear(screen.getByLabelText("Default of zones"));
    await userEvent.tab();
    expect(now[0]?.default).toBeNull();
  });

  it("take their values out of a lookup, instead of a list", async () => {
    const columns = ["letter", "title"].map((name) => ({ name, kind: "text" }));
    answer("GET /lookups", [{ name: "letters", revision: { number: 2, columns, key: ["letter"] } }]);
    draw(<Written used={["zone"]} />);
    await userEvent.click(screen.getByRole("button", { name: "Declare :zone" }));
    await userEvent.click(screen.getByRole("button", { name: "More" }));
    await userEvent.type(screen.getByLabelText("Allowed values of zone"), "N = North{Enter}");
    const pick = async (field: string, option: string) => {
      await userEvent.click(screen.getByLabelText(field));
      await userEvent.click(await screen.findByTitle(option));
    };
    await pick("Lookup of zone", "letters");
    expect(now[0]).toMatchObject({ lookup: { name: "letters" }, allowed: [], labels: {} });
    expect(screen.queryByLabelText("Allowed values of zone")).toBeNull();
    expect(screen.getByText("letter, its key")).toBeTruthy();
    await pick("Column of words for zone", "title");
    expect(now[0]?.lookup).toEqual({ name: "letters", label: "title" });
  });

  it("say allowed values with their words, and bounds, behind More", async () => {
    draw(<Written used={["zone"]} />);
    await userEvent.click(screen.getByRole("button", { name: "Declare :zone" }));
    const more = screen.getByRole("button", { name: "More" });
    expect(more.getAttribute("aria-expanded")).toBe("false");
    await userEvent.click(more);
    await userEvent.type(screen.getByLabelText("Allowed values of zone"), "N = North, S = South{Enter}");
    await userEvent.type(screen.getByLabelText("Least of zone"), "A{Enter}");
    await userEvent.click(screen.getByRole("checkbox", { name: /^sensitive/ }));
    expect(now[0]).toMatchObject({
      allowed: ["N", "S"],
      labels: { N: "North", S: "South" },
      minimum: "A",
      sensitive: true,
    });
    expect(screen.getByLabelText<HTMLInputElement>("Allowed values of zone").value).toBe("N = North, S = South");
    expect(within(screen.getByRole("region", { name: "Parameters" })).getAllByRole("row").length).toBe(3);
  });
});
