// @vitest-environment jsdom
import { act, cleanup, configure, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Form, Input } from "antd";
import { useState } from "react";
import { afterEach, beforeAll, beforeEach, describe, expect, it, vi } from "vitest";
import { Problem } from "../api/client";
import { kept } from "../lib/kept";
import { service } from "../lib/service";
import { Boundary } from "./Boundary";
import { FormDialog } from "./FormDialog";
import { ProblemNote } from "./ProblemNote";

const fetched = vi.fn<(request: Request) => Promise<Response>>(() =>
  Promise.resolve(new Response(null, { status: 204 })),
);

beforeAll(() => {
  configure({ asyncUtilTimeout: 60_000 }); // a slow day is no fault
  Object.defineProperty(window, "matchMedia", {
    value: () => ({ matches: false, addListener: () => undefined, removeListener: () => undefined }),
  });
  const styles = window.getComputedStyle.bind(window);
  window.getComputedStyle = (element) => styles(element); // without the pseudo-elements that are not drawn here
  Element.prototype.scrollIntoView = () => undefined;
  vi.stubGlobal("fetch", fetched);
});
beforeEach(() => {
  kept.belongTo("");
  kept.belongTo("amir");
});
afterEach(() => {
  cleanup();
  fetched.mockClear();
  service.answered();
});

interface Fields {
  name: string;
  secret?: string;
}

/** A page with one button, whose dialog sends what `send` says. */
function Page({ send }: { send: (fields: Fields) => Promise<unknown> }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button onClick={() => setOpen(true)}>Add</button>
      {open && <Dialog send={send} onClose={() => setOpen(false)} />}
    </>
  );
}

function Dialog({ send, onClose }: { send: (fields: Fields) => Promise<unknown>; onClose: () => void }) {
  const [form] = Form.useForm<Fields>();
  const [error, setError] = useState<unknown>(null);
  return (
    <FormDialog
      title="Add a meter"
      of="meter"
      form={form}
      first={{ name: "meter-1" }}
      okText="Save"
      pending={false}
      error={error}
      onSend={async (fields) => {
        await send(fields).catch((problem: unknown) => {
          setError(problem);
          throw problem;
        });
        onClose();
      }}
      onClose={onClose}
    >
      <Form.Item label="Name" name="name" rules={[{ required: true, message: "A name is needed." }]}>
        <Input />
      </Form.Item>
      <Form.Item label="Secret" name="secret">
        <Input.Password />
      </Form.Item>
    </FormDialog>
  );
}

const field = (label: string) => screen.getByLabelText<HTMLInputElement>(label);

describe("a form in a dialog", () => {
  it("has again what was typed before it was closed, and gives the keyboard back", async () => {
    const user = userEvent.setup();
    render(<Page send={() => Promise.resolve()} />);
    await user.click(screen.getByText("Add"));
    await user.clear(field("Name"));
    await user.type(field("Name"), "weir-7");
    await user.type(field("Secret"), "hush");
    await user.keyboard("{Escape}");
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    expect(document.activeElement).toBe(screen.getByText("Add"));
    expect(Object.values(localStorage).join() + Object.values(sessionStorage).join()).not.toContain("hush");
    await user.click(screen.getByText("Add"));
    expect(screen.getByText("As you left it.")).toBeTruthy();
    expect([field("Name").value, field("Secret").value]).toEqual(["weir-7", "hush"]);
    await user.click(screen.getByText("Begin anew"));
    expect([field("Name").value, field("Secret").value]).toEqual(["meter-1", ""]);
  });

  it("begins anew once it was sent, and for somebody else", async () => {
    const user = userEvent.setup();
    const send = vi.fn(() => Promise.resolve());
    render(<Page send={send} />);
    await user.click(screen.getByText("Add"));
    await user.type(field("Name"), "-b");
    await user.click(screen.getByText("Save"));
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    expect(send).toHaveBeenCalledWith(expect.objectContaining({ name: "meter-1-b" }));
    await user.click(screen.getByText("Add"));
    expect(screen.queryByText("As you left it.")).toBeNull();
    await user.type(field("Name"), "-c");
    await user.keyboard("{Escape}");
    kept.belongTo("lena");
    await user.click(screen.getByText("Add"));
    expect(field("Name").value).toBe("meter-1");
  });

  it("shows what was refused first, at the keyboard, and beside its field", async () => {
    const user = userEvent.setup();
    const refused = new Problem(400, {
      message: "that name is taken.",
      hint: "Choose another.",
      facts: { field: "name" },
    });
    render(<Page send={() => Promise.reject(refused)} />);
    await user.click(screen.getByText("Add"));
    await user.type(field("Name"), "-d");
    await user.click(screen.getByText("Save"));
    const [first] = await screen.findAllByRole("alert");
    expect(first!.textContent).toBe("That name is taken.Choose another.");
    expect(document.activeElement).toBe(first);
    await waitFor(() => expect(field("Name").getAttribute("aria-invalid")).toBe("true"));
    expect(field("Name").value).toBe("meter-1-d");
  });

  it("names the field that is missing", async () => {
    const user = userEvent.setup();
    const send = vi.fn(() => Promise.resolve());
    render(<Page send={send} />);
    await user.click(screen.getByText("Add"));
    await user.clear(field("Name"));
    await user.click(screen.getByText("Save"));
    expect(await screen.findByText("A name is needed.")).toBeTruthy();
    expect(send).not.toHaveBeenCalled();
  });
});

describe("errors", () => {
  it("of a service that is away are left to the bar, and told by the form that could not be sent", () => {
    const lost = new Problem(0, { message: "The service does not answer." });
    const { container, rerender } = render(<ProblemNote error={lost} />);
    expect(container.textContent).toBe("Not done: the service did not answer.It is back now: try again.");
    act(() => service.missed());
    expect(container.textContent).toBe("");
    rerender(<ProblemNote error={lost} shown />);
    expect(container.textContent).toContain("send it when the service is back");
  });

  it("of one part leave the rest as it is, and go to the service's log once", async () => {
    const quiet = vi.spyOn(console, "error").mockImplementation(() => undefined);
    let broken = true;
    const Part = () => {
      if (broken) throw new RangeError("Invalid time zone");
      return <p>mended</p>;
    };
    render(
      <>
        <p>the rest</p>
        <Boundary what="The next due times">
          <Part />
        </Boundary>
      </>,
    );
    expect(screen.getByText("the rest")).toBeTruthy();
    expect(screen.getByRole("alert").textContent).toContain("The next due times cannot be shown");
    await waitFor(() => expect(fetched).toHaveBeenCalledTimes(1));
    const told = (await fetched.mock.calls[0]![0].json()) as { message: string };
    expect(told.message).toBe("RangeError: Invalid time zone");
    broken = false;
    await userEvent.setup().click(screen.getByText("Show it again"));
    expect(screen.getByText("mended")).toBeTruthy();
    quiet.mockRestore();
  });
});
