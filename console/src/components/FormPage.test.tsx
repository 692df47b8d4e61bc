// @vitest-environment jsdom
import { render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Form, Input } from "antd";
import { useState } from "react";
import { MemoryRouter, useLocation } from "react-router";
import { describe, expect, it, vi } from "vitest";
import { Problem } from "../api/client";
import { standIn } from "../testing/harness";
import { FormPage, FormPart } from "./FormPage";
import { Part, useParts } from "./Part";

standIn();

interface Fields {
  name: string;
  settings: { host: string };
}

function Meter({ send, leave }: { send: (fields: Fields) => Promise<unknown>; leave?: () => void }) {
  const [form] = Form.useForm<Fields>();
  const [error, setError] = useState<unknown>(null);
  return (
    <FormPage
      title="Add a meter"
      of="meter page"
      form={form}
      first={{ name: "", settings: { host: "" } }}
      okText="Save meter"
      pending={false}
      error={error}
      onSend={(fields) =>
        send(fields).catch((fault: unknown) => {
          setError(fault);
          throw fault;
        })
      }
      onLeave={leave ?? (() => undefined)}
    >
      <FormPart title="What it is" words="As it stands in lists.">
        <Form.Item label="Name" name="name" rules={[{ required: true, message: "A name is needed." }]}>
          <Input />
        </Form.Item>
        <Form.Item label="Host" name={["settings", "host"]}>
          <Input />
        </Form.Item>
      </FormPart>
    </FormPage>
  );
}

describe("a form on a page of its own", () => {
  it("has what was typed when it is come back to, and nothing once it was sent", async () => {
    const send = vi.fn(() => Promise.resolve());
    const leave = vi.fn();
    const first = render(<Meter send={send} leave={leave} />);
    await userEvent.type(screen.getByLabelText("Name"), "alder");
    await userEvent.click(screen.getByRole("button", { name: "Back" }));
    expect(leave).toHaveBeenCalledOnce();
    first.unmount();
    const second = render(<Meter send={send} />);
    expect(await screen.findByText("As you left it.")).toBeTruthy();
    expect(screen.getByLabelText<HTMLInputElement>("Name").value).toBe("alder");
    await userEvent.click(screen.getByRole("button", { name: "Save meter" }));
    await waitFor(() => expect(send).toHaveBeenCalledWith({ name: "alder", settings: { host: "" } }));
    second.unmount();
    render(<Meter send={send} />);
    expect(screen.getByLabelText<HTMLInputElement>("Name").value).toBe("");
    expect(screen.queryByText("As you left it.")).toBeNull();
  });

  it("says beside a field, however deep, what the service has against it", async () => {
    const refusal = new Problem(400, {
      code: "bad_input",
      message: "'x y' is no host.",
      hint: "Give a name.",
      facts: { field: "settings.host" },
    });
    render(<Meter send={() => Promise.reject(refusal)} />);
    await userEvent.type(screen.getByLabelText("Name"), "alder");
    await userEvent.click(screen.getByRole("button", { name: "Save meter" }));
    const alert = (await screen.findAllByRole("alert"))[0]!;
    await waitFor(() => expect(document.activeElement).toBe(alert));
    const beside = screen.getByLabelText("Host").closest(".ant-form-item")!;
    await waitFor(() => expect(beside.textContent).toContain("'x y' is no host. Give a name."));
    expect(screen.getByRole("region", { name: "What it is" }).contains(beside)).toBe(true);
  });
});

const Where = () => <output>{useLocation().search}</output>;
function Told({ detail = true }: { detail?: boolean }) {
  const parts = useParts();
  return (
    <>
      <Part name="gives" title="What it gives" words="csv" parts={parts} fault={<em>a fault</em>}>
        {detail && <Input aria-label="Formats" />}
      </Part>
      <Part name="holds" title="What must hold" words="nothing" parts={parts} opens="Show">
        <Input aria-label="Guards" />
      </Part>
      <Where />
    </>
  );
}

describe("a part that is told in a line", () => {
  it("opens in place, and the address says which are open", async () => {
    render(
      <MemoryRouter initialEntries={["/extracts/a?open=holds"]}>
        <Told />
      </MemoryRouter>,
    );
    expect(screen.getByLabelText("Guards")).toBeTruthy();
    expect(screen.queryByLabelText("Formats")).toBeNull();
    expect(screen.getByText("a fault")).toBeTruthy();
    const way = screen.getByRole("button", { name: "Change: What it gives" });
    expect(way.getAttribute("aria-expanded")).toBe("false");
    way.focus();
    await userEvent.keyboard("{Enter}");
    expect(screen.getByLabelText("Formats")).toBeTruthy();
    expect(screen.getByRole("status", { hidden: true }).textContent).toContain("open=holds%2Cgives");
    await userEvent.click(screen.getByRole("button", { name: "Close: What must hold" }));
    expect(screen.queryByLabelText("Guards")).toBeNull();
    expect(screen.getByRole("status").textContent).toContain("open=gives");
  });

  it("is told only where there is nothing to open", () => {
    render(
      <MemoryRouter>
        <Told detail={false} />
      </MemoryRouter>,
    );
    expect(screen.queryByRole("button", { name: "Change: What it gives" })).toBeNull();
    expect(screen.getByRole("region", { name: "What it gives" }).textContent).toContain("csv");
  });
});
