"""Measures the console of a running demo in headless Chromium, and writes docs/console-times.md.

./scripts/demo &
./scripts/bench --console=http://127.0.0.1:8470
"""

from __future__ import annotations

import json
import os
import statistics
import sys
import time
from pathlib import Path
from typing import Any

from chromium import launched
from playwright.sync_api import BrowserContext, Page, Route, sync_playwright

from patient_ladle.client import Ladle

PAGE = Path(__file__).parents[1] / "docs" / "console-times.md"
PASSWORD = "fennmoor-demo"
EXTRACTS = 2_000
ROWS, COLUMNS, STEPS = 10_000, 100, 150

SCRIPTS = """() => performance.getEntriesByType("resource").filter(r => r.name.endsWith(".js"))
  .reduce((sum, r) => sum + r.encodedBodySize, 0)"""
SCROLLED = """async ([steps, aside]) => {
  const box = document.querySelector("[role=grid]");
  const frames = [];
  let last = performance.now();
  for (let n = 0; n < steps; n += 1) {
    box.scrollTop += 100;
    if (n % 3 === 0) box.scrollLeft += aside;
    await new Promise(requestAnimationFrame);
    const now = performance.now();
    frames.push(now - last);
    last = now;
  }
  return frames;
}"""
"""Milliseconds between frames while the grid is scrolled down, each frame by a notch of a wheel, and aside as well."""


LISTED = """() => {
  window.listed = new Promise((done) => addEventListener("click", () => {
    const began = performance.now();
    const look = () => document.querySelectorAll("main tbody tr[data-row-key]").length > 5
      ? requestAnimationFrame(() => done(performance.now() - began)) : requestAnimationFrame(look);
    look();
  }, { capture: true, once: true }));
}"""
"""Milliseconds from the next click until rows of a list are painted, as the page itself sees it."""


class Keys:
    """A person at the keyboard alone: counts what is pressed."""

    def __init__(self, page: Page) -> None:
        self.page, self.pressed = page, 0

    def press(self, key: str) -> None:
        """One key."""
        self.page.keyboard.press(key)
        self.pressed += 1

    def write(self, text: str) -> None:
        """Letters."""
        self.page.keyboard.type(text)
        self.pressed += len(text)

    def to(self, words: str) -> None:
        """Tab until what is called that, or ends so where that is an ending, is reached."""
        name = "e => e === document.body ? '' : e.ariaLabel || e.labels?.[0]?.innerText || e.innerText || ''"
        for _ in range(120):
            found = str(self.page.evaluate(f"({name})(document.activeElement)")).strip()
            if found == words or (words.startswith(".") and found.endswith(words)):
                return
            self.press("Tab")
        sys.exit(f"'{words}' is not reached by Tab.")


def _by_keyboard(page: Page) -> tuple[float, int]:
    """From the sign-in to the first workbook: seconds, and keys pressed."""
    keys = Keys(page)
    page.goto("/")
    page.get_by_label("Name").wait_for()
    began = time.monotonic()
    keys.to("Name")
    keys.write("rosa")
    keys.press("Tab")
    keys.write(PASSWORD)
    keys.press("Enter")
    page.get_by_role("heading", name="Last night", exact=True).wait_for()
    keys.to("Extracts")
    keys.press("Enter")
    page.get_by_role("heading", name="Extracts", exact=True).wait_for()
    keys.to("Search")
    keys.write("monthly_con")
    page.get_by_role("link", name="monthly_consumption", exact=True).wait_for()
    keys.to("monthly_consumption")
    keys.press("Enter")
    page.get_by_role("button", name="Run now").wait_for()
    keys.to("Run now")
    keys.press("Enter")
    page.get_by_role("link", name=".xlsx").first.wait_for()
    keys.to(".xlsx")
    with page.expect_download():
        keys.press("Enter")
    return time.monotonic() - began, keys.pressed


def _wide(route: Route) -> None:
    """An answer as a source would give it, of more rows and columns than one shows."""
    given = route.fetch().json()
    if given.get("state") == "finished" and given.get("result", {}).get("rows"):
        names = [f"column_{n}" for n in range(COLUMNS)]
        given["result"]["columns"] = [{"name": name, "kind": "text", "source_type": "text"} for name in names]
        given["result"]["rows"] = [[f"{row} {column}" for column in range(COLUMNS)] for row in range(ROWS)]
    route.fulfill(status=200, content_type="application/json", body=json.dumps(given))


def _frames(page: Page) -> tuple[list[float], list[float]]:
    """Down, and both ways at once; sorted."""
    page.route("**/api/v1/queries/*", _wide)
    page.goto("/extracts/samples_by_point")
    page.get_by_text("No errors").wait_for()
    page.get_by_role("button", name="Preview", exact=True).click()
    page.get_by_role("gridcell", name="0 0", exact=True).wait_for()
    page.evaluate(SCROLLED, [20, 0])
    return sorted(page.evaluate(SCROLLED, [STEPS, 0])), sorted(page.evaluate(SCROLLED, [STEPS, 60]))


def _many_extracts(url: str) -> None:
    client, _ = Ladle.sign_in(url, "amir", PASSWORD)
    with client as ladle:
        there = sum(1 for _ in ladle.extracts.list(search="made_to_count"))
        for n in range(there, EXTRACTS):
            ladle.extracts.add(f"made_to_count_{n}", "laboratory", "select 1 as one", folder=f"counted/{n % 40}")


def _listed(page: Page) -> float:
    walls = []
    for _ in range(5):
        page.goto("/workers")
        page.get_by_role("heading", name="Workers").wait_for()
        page.wait_for_load_state("networkidle")
        page.evaluate(LISTED)
        page.get_by_role("link", name="Extracts", exact=True).click()
        walls.append(page.evaluate("() => window.listed") / 1000)
    return statistics.median(walls)


def _signed_in(context: BrowserContext, who: str) -> Page:
    page = context.new_page()
    page.goto("/")
    page.get_by_label("Name").fill(who)
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="Last night", exact=True).wait_for()
    page.wait_for_load_state("networkidle")
    return page


def main() -> None:
    """Measure, and write the page."""
    url = sys.argv[1]
    lines: list[tuple[str, str, str]] = []
    with sync_playwright() as playwright:
        browser = launched(playwright)

        def context() -> Any:
            return browser.new_context(viewport={"width": 1280, "height": 800}, base_url=url, accept_downloads=True)

        page = _signed_in(context(), "amir")
        lines.append(("script for *Last night*, gzipped", f"{page.evaluate(SCRIPTS) / 1000:.0f} kB", "310 kB"))
        page.goto("/extracts/samples_by_point")
        page.get_by_text("No errors").wait_for()
        lines.append(("… for an extract with its editor, loaded anew", f"{page.evaluate(SCRIPTS) / 1000:.0f} kB", ""))
        for way, frames in zip(("down", "down and aside at once"), _frames(page), strict=True):
            rate = 1000 / statistics.mean(frames)
            lines.append((f"a grid of {ROWS:,} rows × {COLUMNS} columns, scrolled {way}: frames a second", f"{rate:.0f}", "50"))
            lines.append(("… 95 % of them come within", f"{frames[int(len(frames) * 0.95)]:.0f} ms", ""))
            lines.append(("… the worst frame", f"{frames[-1]:.0f} ms", ""))
        seconds, pressed = _by_keyboard(context().new_page())
        lines.append(("from sign-in to a first workbook, by keyboard alone", f"{seconds:.1f} s, {pressed} keys", ""))
        _many_extracts(url)
        lines.append((f"a list of {EXTRACTS:,} extracts, opened (median of 5)", f"{_listed(page):.2f} s", "1 s"))
        version = browser.version
        browser.close()
    told = [
        "# How quick the console is",
        "",
        f"Headless Chromium {version.split('.')[0]} without a graphics processor, on the machine that runs the demo "
        f"({os.cpu_count()} cores).",
        "`./scripts/bench --console=URL` writes this page; keys are pressed as fast as the page takes them.",
        "",
        "| what | measured | goal |",
        "|---|---:|---:|",
        *(f"| {what} | {found} | {goal} |" for what, found, goal in lines),
    ]
    print("\n".join(told))
    PAGE.write_text("\n".join(told) + "\n")


if __name__ == "__main__":
    main()
