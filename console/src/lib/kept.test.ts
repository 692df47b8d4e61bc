// @vitest-environment jsdom
import { beforeEach, describe, expect, it, vi } from "vitest";

/** The page loaded anew: what was in memory is gone. */
async function loaded(person = "amir") {
  vi.resetModules();
  const page = await import("./kept");
  page.kept.belongTo(person);
  return page;
}

beforeEach(() => localStorage.clear());

describe("what is typed", () => {
  it("is there again in a page that was loaded anew, without its secrets", async () => {
    const before = await loaded();
    before.kept.keep("channel", { name: "duty", settings: { url: "https://hush", port: 1 }, secret: "hush" }, [
      "secret",
      "settings.url",
    ]);
    expect(before.kept.of("channel")).toMatchObject({ secret: "hush" });
    expect(JSON.stringify(localStorage)).not.toContain("hush");
    expect((await loaded()).kept.of("channel")).toEqual({ name: "duty", settings: { port: 1 } });
  });

  it("is nobody else's, and gone once somebody else signs in", async () => {
    (await loaded()).kept.keep("channel", { name: "duty" });
    const other = await loaded("lena");
    expect(other.kept.of("channel")).toBeUndefined();
    expect(JSON.stringify(localStorage)).not.toContain("duty");
    expect((await loaded()).kept.of("channel")).toBeUndefined();
  });

  it("is gone once it was sent, or is a month old", async () => {
    const page = await loaded();
    page.kept.keep("sent", { a: 1 });
    page.kept.keep("old", { a: 1 });
    page.kept.forget("sent");
    vi.spyOn(Date, "now").mockReturnValue(Date.now() + 31 * 86_400_000);
    const anew = await loaded();
    expect([anew.kept.of("sent"), anew.kept.of("old")]).toEqual([undefined, undefined]);
    vi.restoreAllMocks();
  });

  it("is in memory where the browser has no room", async () => {
    const page = await loaded();
    vi.spyOn(Storage.prototype, "setItem").mockImplementation(() => {
      throw new DOMException("full", "QuotaExceededError");
    });
    page.kept.keep("form", { a: 1 });
    expect(page.kept.of("form")).toEqual({ a: 1 });
    vi.restoreAllMocks();
  });

  it("keeps a draft until the service has it, and takes it once", async () => {
    const page = await loaded();
    page.unsent.leave("extract a", { text: "select 1", default: "hush" }, { text: "select 1" });
    const anew = await loaded();
    expect(anew.unsent.take("extract a")).toEqual({ text: "select 1" });
    expect(anew.unsent.take("extract a")).toBeUndefined();
  });
});
