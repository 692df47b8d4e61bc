// @vitest-environment jsdom
import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useEffect, useState } from "react";
import { describe, expect, it } from "vitest";
import { answer, calls, draw, standIn } from "../../testing/harness";
import type { Draft } from "../writing/useDraft";
import type { Outline } from "./outline";
import { inStep, PutTogether } from "./PutTogether";

standIn();

const WORDS = {
  tests: { text: ["is", "contains", "is_null"], integer: ["is", "more"], any: ["is", "holds"], boolean: ["is"] },
  aggregates: ["count", "sum"],
  buckets: ["month"],
  joins: ["inner", "left"],
};
const column = (name: string, kind: string) => ({ name, kind, type: kind, nullable: true, default: null, comment: "" });
let now: Draft;

function Page({ statement = "", outline = null }: { statement?: string; outline?: Outline | null }) {
  const [draft, set] = useState<Draft>({
    base: 1, statement, outline, compiled: outline ? "select serial\nfrom meters" : "", inputs: [], steps: [],
  parameters: [], source: "metering",
    formats: ["csv"], file_name: "", deliver_into: "", output: {}, guards: [], notes: "",
  }); // prettier-ignore
  useEffect(() => {
    now = draft;
  });
  return (
    <PutTogether
      draft={draft}
      extract={null}
      environment="live"
      words={WORDS}
      values={() => ({})}
      change={(more) => set((before) => ({ ...before, ...more }))}
    />
  );
}

function service() {
  answer("GET /sources/metering/catalogue", { tables: [{ name: "meters" }, { name: "districts" }], families: [] });
  answer("GET /sources/metering/tables/meters", {
    name: "meters",
    columns: [column("serial", "text"), column("bore", "integer")],
  });
  answer("GET /sources/metering/tables/districts", { name: "districts", columns: [column("name", "text")] });
  answer("POST /outlines/compile", (body) => {
    const outline = (body as { outline: Outline }).outline;
    const wrong = outline.show?.some((each) => each.column === "meters.bore" && !each.aggregate);
    const remark = {
      severity: "error",
      code: "x",
      message: "no such thing.",
      hint: "Try another.",
      where: "show[0]",
      part: "",
    };
    return wrong
      ? { statement: "", parameters: [], remarks: [remark], asked: false }
      : { statement: `-- ${JSON.stringify(outline)}`, parameters: [], remarks: [], asked: true };
  });
}

/** Chooses from a list, once what is to be chosen is in it. */
async function choose(label: string, word: string) {
  await userEvent.click(screen.getByRole("combobox", { name: label }));
  const list = () => document.querySelector(`.ant-select-dropdown:not(.ant-select-dropdown-hidden) [title="${word}"]`);
  await waitFor(() => expect(list()).not.toBeNull());
  await userEvent.click(list()!);
}

describe("a statement put together", () => {
  it("begins with a table and becomes text with each choice", async () => {
    service();
    draw(<Page />);
    await userEvent.click(screen.getByRole("button", { name: "Put together by choosing" }));
    await choose("From table", "meters");
    await choose("Show a column", "meters.serial");
    await waitFor(() => expect(now.statement).toContain('"show":[{"column":"meters.serial"}]'));
    expect(inStep(now)).toBe(true);
    await userEvent.click(screen.getByRole("button", { name: "Add condition" }));
    await choose("Test, condition, 1", "contains");
    await userEvent.type(screen.getByRole("textbox", { name: "Value, condition, 1" }), "FW");
    await waitFor(() => expect(now.statement).toContain('"test":"contains","value":"FW"'));
  });

  it("shows an error at its part, and is not in step until it is mended", async () => {
    service();
    draw(<Page />);
    await userEvent.click(screen.getByRole("button", { name: "Put together by choosing" }));
    await choose("From table", "meters");
    await choose("Show a column", "meters.bore");
    const line = screen.getByRole("region", { name: "Show" });
    expect(await within(line).findByRole("alert")).toHaveProperty("textContent", "No such thing. Try another.");
    expect([inStep(now), now.compiled]).toEqual([false, ""]);
    await choose("Aggregate, shown 1", "sum");
    await waitFor(() => expect(inStep(now)).toBe(true));
    expect(screen.queryByRole("alert")).toBeNull();
    expect(screen.getByRole("region", { name: "Grouped" })).toBeTruthy();
  });

  it("joins a table by its keys, and asks where there are several ways", async () => {
    service();
    const way = (left: string) => ({
      joins: [{ table: "districts", as: "d", on: [{ left, right: "d.name" }] }],
      why: "foreign_key",
    });
    answer("POST /outlines/joins", [way("meters.serial"), way("meters.bore")]);
    draw(<Page outline={{ outline: 1, from: { table: "meters" } }} statement={"select serial\nfrom meters"} />);
    await userEvent.click(screen.getByRole("button", { name: "Put together by choosing" }));
    await choose("With table", "districts");
    await userEvent.click(await screen.findByRole("button", { name: "meters.bore = d.name" }));
    expect(now.outline?.with?.[0]?.on).toEqual([{ left: "meters.bore", right: "d.name" }]);
    await userEvent.click(screen.getByRole("button", { name: "Remove table 1" }));
    expect(now.outline?.with).toBeUndefined();
  });

  it("reads a statement by hand back, or says what would be lost", async () => {
    service();
    answer(
      "POST /outlines/read",
      Response.json(
        { code: "bad_input", message: "no place for a with clause.", hint: "Go on in the text." },
        { status: 400 },
      ),
    );
    draw(<Page statement="with x as (select 1) select * from x" />);
    await userEvent.click(screen.getByRole("button", { name: "Put together by choosing" }));
    expect((await screen.findByRole("alert")).textContent).toContain("No place for a with clause.");
    answer("POST /outlines/read", {
      outline: { outline: 1, from: { table: "meters" } },
      statement: "select serial\nfrom meters",
    });
    await userEvent.click(screen.getByRole("button", { name: "Put together by choosing" }));
    await waitFor(() => expect(now.outline).toEqual({ outline: 1, from: { table: "meters" } }));
  });

  it("keeps an outline that the text has left, with a look at what going back would change", async () => {
    service();
    answer("POST /differences", [{ kind: "removed", text: "select 1", before: 1, after: null }]);
    draw(<Page outline={{ outline: 1, from: { table: "meters" } }} statement="select 1" />);
    await userEvent.click(screen.getByRole("button", { name: "What going back would change" }));
    expect(await screen.findByText("select 1")).toBeTruthy();
    expect(calls.find((call) => call.what === "POST /differences")?.body).toEqual({
      before: "select 1",
      after: "select serial\nfrom meters",
    });
    await userEvent.click(screen.getByRole("button", { name: "Back to the outline" }));
    expect(now.statement).toBe("select serial\nfrom meters");
  });
});
