// @vitest-environment jsdom
import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useEffect, useState } from "react";
import { describe, expect, it } from "vitest";
import type { SourceQuery } from "../../api/client";
import { givesWords, goesWords, holdsWords } from "../../lib/decisions";
import { answer, calls, draw, standIn } from "../../testing/harness";
import { Delivery } from "./Delivery";
import { Guards } from "./Guards";
import { OutputSettings } from "./OutputSettings";
import type { Draft } from "./useDraft";

standIn();

const option = (name: string, kind: string, def: unknown, choices: string[] = []) => ({
  name,
  kind,
  default: def,
  choices,
  note: `what ${name} does`,
});
const FORMATS = {
  formats: [
    { name: "csv", note: "", options: [option("delimiter", "text", ","), option("header", "boolean", true)] },
    { name: "xlsx", note: "", options: [option("sheet_name", "text", "")] },
  ],
  files: [option("compression", "choice", "none", ["none", "gzip"]), option("if_exists", "choice", "overwrite")],
  column_types: ["text", "decimal"],
};
const PREVIEW = {
  id: "p1",
  result: {
    columns: [
      { name: "zone", kind: "text", source_type: "text" },
      { name: "litres", kind: "decimal", source_type: "numeric" },
    ],
    rows: [["North", "1.5"]],
  },
} as unknown as SourceQuery;

let now: Draft;
function Decided({ preview }: { preview?: SourceQuery }) {
  const [draft, set] = useState<Draft>({
    base: 1, statement: "select 1", outline: null, compiled: "", inputs: [], steps: [],
  parameters: [], source: "metering", formats: ["csv"], file_name: "",
    deliver_into: "", output: {}, guards: [], notes: "",
  }); // prettier-ignore
  useEffect(() => {
    now = draft;
  });
  const change = (more: Partial<Draft>) => set((before) => ({ ...before, ...more }));
  return (
    <>
      <p data-testid="words">{givesWords(draft.formats, draft.file_name, draft.output)}</p>
      <OutputSettings
        ofDocuments={false}
        formats={draft.formats}
        fileName={draft.file_name}
        output={draft.output}
        preview={preview}
        onChange={change}
      />
      <Guards guards={draft.guards} onChange={(guards) => change({ guards })} />
      <Delivery draft={draft} onChange={change} />
    </>
  );
}

describe("what an extract gives", () => {
  it("keeps only what differs from the defaults, format by format", async () => {
    answer("GET /formats", FORMATS);
    draw(<Decided />);
    const parts = await screen.findByRole("radiogroup", { name: "What of the files" });
    expect(screen.getByText(/^Press Preview above/)).toBeTruthy();
    await userEvent.click(within(parts).getByText("csv"));
    const delimiter = screen.getByLabelText("Options of csv: delimiter");
    await userEvent.clear(delimiter);
    await userEvent.type(delimiter, ";");
    await userEvent.click(screen.getByLabelText("Options of csv: header"));
    expect(now.output).toEqual({ formats: { csv: { delimiter: ";", header: false } } });
    expect(within(parts).getByText("csv (2)")).toBeTruthy();
    await userEvent.clear(screen.getByLabelText("Options of csv: delimiter"));
    await userEvent.type(screen.getByLabelText("Options of csv: delimiter"), ",");
    await userEvent.click(screen.getByLabelText("Options of csv: header"));
    expect(now.output).toEqual({});
    await userEvent.click(screen.getByLabelText("xlsx"));
    await userEvent.type(screen.getByLabelText("File name"), "use");
    expect(now).toMatchObject({ formats: ["csv", "xlsx"], file_name: "use" });
    expect(screen.getByTestId("words").textContent).toBe("csv and xlsx, named use");
  });

  it("chooses, names and orders columns of the preview beside a sample of the file", async () => {
    answer("GET /formats", FORMATS);
    answer("POST /samples", { text: "zone,litres\nNorth,1.5\n", columns: [], rows: [], warnings: ["a warning"] });
    draw(<Decided preview={PREVIEW} />);
    expect((await screen.findByRole("region", { name: "Sample of csv" })).textContent).toContain("North,1.5");
    expect(screen.getByText("a warning")).toBeTruthy();
    await userEvent.type(screen.getByLabelText("Name of zone in the file"), "region");
    await userEvent.click(screen.getByRole("button", { name: "litres earlier" }));
    expect(now.output.columns).toEqual([{ name: "litres" }, { name: "zone", as: "region" }]);
    await userEvent.click(screen.getByRole("checkbox", { name: "Leave out litres" }));
    expect(now.output.columns).toEqual([{ name: "zone", as: "region" }]);
    expect(screen.getByRole<HTMLInputElement>("checkbox", { name: "Leave out zone" }).disabled).toBe(true);
    await userEvent.click(screen.getByRole("checkbox", { name: "Take in litres" }));
    await userEvent.clear(screen.getByLabelText("Name of zone in the file"));
    expect(now.output).toEqual({}); // as the statement gives them
    await waitFor(() => expect(calls.filter((call) => call.what === "POST /samples").length).toBeGreaterThan(1));
  });
});

describe("what must hold, and where it goes", () => {
  it("adds, changes and removes a guard, and says what becomes of a result", async () => {
    answer("GET /formats", FORMATS);
    draw(<Decided />);
    await userEvent.click(await screen.findByRole("button", { name: "Add guard" }));
    expect(holdsWords(now.guards)).toBe("At least 1 row, else held");
    const least = screen.getByLabelText("at least, guard 1");
    await userEvent.clear(least);
    await userEvent.type(least, "60");
    await userEvent.click(screen.getByRole("combobox", { name: "Then, guard 1" }));
    await userEvent.click(await screen.findByTitle("else warn"));
    expect(now.guards).toEqual([{ guard: "rows", at_least: 60, then: "warn" }]);
    await userEvent.click(screen.getByRole("button", { name: "Remove guard 1" }));
    expect(now.guards).toEqual([]);
  });

  it("asks for the manner of a delivery once there is one", async () => {
    answer("GET /formats", FORMATS);
    draw(<Decided />);
    await screen.findByRole("radiogroup");
    expect(screen.queryByRole("group", { name: "Delivery" })).toBeNull();
    await userEvent.type(screen.getByLabelText("Deliver into"), "regulator");
    expect(screen.getByRole("group", { name: "Delivery" }).textContent).toContain("what if_exists does");
    expect(goesWords(now.deliver_into, now.output)).toBe("Into regulator; a file of that name is overwritten");
  });
});
