// @vitest-environment jsdom
import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { describe, expect, it } from "vitest";
import type { Schedule } from "../../api/client";
import { answer, calls, draw, standIn } from "../../testing/harness";
import { Several } from "./Several";

standIn();

const made = (name: string, paused = false) =>
  ({ name, paused_at: paused ? "2026-11-29T06:00:00Z" : null }) as Schedule;

function Chosen({ of }: { of: Schedule[] }) {
  const [names, choose] = useState(of.map((s) => s.name));
  return <Several chosen={of.filter((s) => names.includes(s.name))} shown={of} onChoose={choose} />;
}

describe("several schedules", () => {
  it("are paused with one question, and what they were is put back", async () => {
    const before = [
      { name: "a", paused: false, reason: "", until: null },
      { name: "b", paused: true, reason: "swap", until: null },
    ];
    answer("POST /pauses", { before });
    draw(<Chosen of={[made("a"), made("b", true)]} />);
    const bar = screen.getByRole("group", { name: "With those chosen" });
    expect(bar.textContent).toContain("2 schedules chosen");
    await userEvent.click(within(bar).getByRole("button", { name: "Pause…" }));
    const dialog = await screen.findByRole("dialog");
    await userEvent.type(within(dialog).getByLabelText("Reason"), "holidays");
    await userEvent.click(within(dialog).getByRole("button", { name: "Pause" }));
    await waitFor(() => expect(screen.getByRole("status").textContent).toContain("2 schedules paused."));
    expect(calls.map((call) => call.body)).toEqual([
      { schedules: ["a", "b"].map((name) => ({ name, paused: true, reason: "holidays", until: null })) },
    ]);
    expect(screen.queryByRole("group", { name: "With those chosen" })).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Undo" }));
    await waitFor(() => expect(calls.at(-1)?.body).toEqual({ schedules: before }));
    await waitFor(() => expect(screen.queryByRole("button", { name: "Undo" })).toBeNull());
  });

  it("offer only what changes something", async () => {
    answer("POST /pauses", { before: [{ name: "b", paused: true }] });
    const first = draw(<Chosen of={[made("a")]} />);
    expect(screen.getByRole("group").textContent).toContain("a chosen");
    expect(screen.queryByRole("button", { name: "Resume" })).toBeNull();
    first.unmount();
    draw(<Chosen of={[made("b", true)]} />);
    expect(screen.queryByRole("button", { name: "Pause…" })).toBeNull();
    await userEvent.click(screen.getByRole("button", { name: "Resume" }));
    await waitFor(() => expect(screen.getByRole("status").textContent).toContain("b resumed."));
    expect(calls[0]?.body).toEqual({ schedules: [{ name: "b", paused: false, reason: "" }] });
  });

  it("stay chosen where the service refuses, with the reason", async () => {
    const refusal = { code: "unknown_name", message: "there is no schedule 'a'.", hint: "List them." };
    answer("POST /pauses", () => Response.json(refusal, { status: 400 }));
    draw(<Chosen of={[made("a", true)]} />);
    await userEvent.click(screen.getByRole("button", { name: "Resume" }));
    expect((await screen.findByRole("alert")).textContent).toContain(
      "There is no schedule 'a'. List them.".split(". ")[0],
    );
    expect(screen.getByRole("group", { name: "With those chosen" })).toBeTruthy();
    await userEvent.click(screen.getByRole("button", { name: "Choose none" }));
    expect(screen.queryByRole("group", { name: "With those chosen" })).toBeNull();
  });
});
