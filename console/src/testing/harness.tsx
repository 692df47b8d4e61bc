/** What component tests share: a browser as far as one is needed, and a service that answers what a test says. */
import { QueryClientProvider } from "@tanstack/react-query";
import { cleanup, configure, render } from "@testing-library/react";
import { App, ConfigProvider } from "antd";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeAll, beforeEach, vi } from "vitest";
import { Queries } from "../api/queries";
import { kept } from "../lib/kept";
import { service } from "../lib/service";

type Answer = (body: unknown, address: URL) => unknown;
export interface Call {
  what: string;
  body: unknown;
}

const answers = new Map<string, Answer>();
/** Every call that was made, as "POST /pauses" with its body. */
export const calls: Call[] = [];

/** What the service answers to "GET /formats" from now on; a Response is given as it is. */
export const answer = (what: string, told: Answer | object) =>
  answers.set(what, typeof told === "function" ? (told as Answer) : () => told);

async function fetched(request: Request): Promise<Response> {
  const address = new URL(request.url);
  const what = `${request.method} ${address.pathname.replace("/api/v1", "")}`;
  const text = await request.text();
  const body: unknown = text ? JSON.parse(text) : undefined;
  calls.push({ what, body });
  const told = answers.get(what);
  if (!told) return Response.json({ code: "not_found", message: `nothing at ${what}.`, hint: "" }, { status: 404 });
  const given = told(body, address);
  return given instanceof Response ? given : Response.json(given);
}

/** To be called once by a test file. */
export function standIn() {
  configure({ asyncUtilTimeout: 150_000 }); // a slow day is no fault
  beforeAll(() => {
    Object.defineProperty(window, "matchMedia", {
      value: () => ({
        matches: false,
        addListener: () => undefined,
        removeListener: () => undefined,
        addEventListener: () => undefined,
      }),
    });
    const styles = window.getComputedStyle.bind(window);
    window.getComputedStyle = (element) => styles(element); // without the pseudo-elements that are not drawn here
    Element.prototype.scrollIntoView = () => undefined;
    vi.stubGlobal("fetch", fetched);
    vi.stubGlobal(
      "ResizeObserver",
      class {
        observe = () => undefined;
        unobserve = () => undefined;
        disconnect = () => undefined;
      },
    );
  });
  beforeEach(() => {
    kept.belongTo("");
    kept.belongTo("amir");
  });
  afterEach(() => {
    cleanup();
    answers.clear();
    calls.length = 0;
    service.answered();
  });
}

/** Drawn as within the console, at that address; without the kit's style sheets, which cost half the time and are looked at in
 *  a real browser. */
export const draw = (what: ReactNode, at = "/") =>
  render(
    <ConfigProvider theme={{ zeroRuntime: true }}>
      <App>
        <QueryClientProvider client={new Queries({ defaultOptions: { queries: { retry: false } } })}>
          <MemoryRouter initialEntries={[at]}>{what}</MemoryRouter>
        </QueryClientProvider>
      </App>
    </ConfigProvider>,
  );
