// @vitest-environment jsdom
import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useLocation } from "react-router";
import { describe, expect, it } from "vitest";
import { useAddress } from "../lib/useAddress";
import { answer, draw, standIn } from "../testing/harness";
import { Narrowing } from "./Narrowing";

standIn();

const STATES = ["failed", "held"].map((value) => ({ value, label: value }));

function List() {
  const [at, set] = useAddress({ search: "", state: "", environment: "", from: "", to: "" });
  return (
    <>
      <Narrowing
        at={at}
        set={set}
        search="Words"
        choices={[{ key: "state", label: "State", options: STATES }]}
        environment
        days={["from", "to"]}
      />
      <output>{useLocation().search}</output>
    </>
  );
}
const address = () => screen.getByRole("status", { hidden: true }).textContent;
const pick = async (label: string, option: string) => {
  await userEvent.click(screen.getByRole("combobox", { name: label }));
  await userEvent.click(await screen.findByTitle(option));
};

describe("what narrows a list", () => {
  it("is held by the address, all of it at once", async () => {
    answer("GET /environments", [{ name: "live" }, { name: "rehearsal" }]);
    draw(<List />, "/runs");
    expect(screen.queryByRole("button", { name: "Show all" })).toBeNull();
    await userEvent.type(screen.getByLabelText("Search"), "meter swap");
    await waitFor(() => expect(address()).toBe("?search=meter+swap"));
    await pick("State", "held");
    await pick("Environment", "rehearsal");
    await userEvent.type(screen.getByLabelText("From"), "2026-11-24");
    await waitFor(() => expect(address()).toBe("?search=meter+swap&state=held&environment=rehearsal&from=2026-11-24"));
    await userEvent.click(screen.getByRole("button", { name: "Show all" }));
    await waitFor(() => expect(address()).toBe(""));
    expect(screen.getByLabelText<HTMLInputElement>("Search").value).toBe("");
  });

  it("is there again from a link, and a day that is none narrows nothing", async () => {
    answer("GET /environments", []);
    draw(<List />, "/runs?search=leak&state=failed");
    expect(screen.getByLabelText<HTMLInputElement>("Search").value).toBe("leak");
    expect(screen.getByTitle("failed")).toBeTruthy();
    await userEvent.type(screen.getByLabelText("to"), "2026-13");
    expect(address()).toBe("?search=leak&state=failed");
  });
});
