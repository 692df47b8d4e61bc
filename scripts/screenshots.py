"""Draws docs/screenshots anew from a running demo: the console's pages at 1280x800, and commands in a terminal.

./scripts/demo &
.venv/bin/python scripts/screenshots.py http://127.0.0.1:8470 docs/screenshots [NAME …]
.venv/bin/python scripts/screenshots.py http://127.0.0.1:8470 docs/screenshots --check

Beside the pictures stands ``pages.json``: what each page is made of (headings, buttons, fields, columns; numbers masked).
``--check`` draws nothing, and fails where a page is made of something else by now: its picture is out of date.
"""

from __future__ import annotations

import io
import json
import os
import pty
import re
import subprocess
import sys
import tempfile
import time
from datetime import datetime
from html import escape
from pathlib import Path

import openpyxl
from chromium import launched
from openpyxl.cell import Cell
from openpyxl.utils import get_column_letter
from openpyxl.worksheet.worksheet import Worksheet
from playwright.sync_api import Page, sync_playwright
from rich.console import Console
from rich.terminal_theme import DEFAULT_TERMINAL_THEME
from rich.text import Text

PASSWORD = "fennmoor-demo"
SIZE = {"width": 1280, "height": 800}
PATIENCE = 300
"""Seconds that a page may take: the tests run this beside much else."""
SETTLES = 90
"""Seconds after which a page that is still made of something else than its picture counts as changed."""
LADLE = str(Path(sys.executable).parent / "ladle")


MADE_OF = """() => {
  const found = new Set();
  const named = "January February March April May June July August September October November December "
    + "Monday Tuesday Wednesday Thursday Friday Saturday Sunday";
  const moments = new RegExp("\\\\b(" + named.replaceAll(" ", "|") + ")\\\\b", "g"); // a picture is true on each day
  const parts = "h1, h2, h3, button, th, label, dt, summary, [role=tab], [role=columnheader], input, textarea, nav a";
  for (const part of document.querySelectorAll(parts)) {
    if (!part.getClientRects().length || part.closest("tbody")) continue;
    const words = part.getAttribute("aria-label") || part.innerText || part.getAttribute("placeholder") || "";
    const numbers = part.tagName === "A" ? "" : "#"; // beside a page stands how much came up there meanwhile, if anything
    const masked = words.replace(/\\s+/g, " ").replace(/\\d[\\d.,:-]*/g, numbers).replace(moments, "~").trim();
    if (masked && masked.length < 80) found.add(`${part.tagName.toLowerCase()} ${masked}`);
  }
  return [...found].sort();
}"""
"""What a page is made of, apart from its data."""


def _sign_in(page: Page) -> None:
    page.goto("/")
    page.get_by_label("Name").fill("rita")
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="Last night", exact=True).wait_for()


def _drop_drafts(page: Page) -> None:
    """What an earlier picture left unsaved."""
    page.goto("/workers")  # the editor hands over what it has
    page.wait_for_load_state("networkidle")
    cookies = {cookie["name"]: cookie["value"] for cookie in page.context.cookies()}
    headers = {"X-CSRFToken": cookies["csrftoken"], "Referer": page.url}
    for draft in page.request.get("/api/v1/drafts").json():
        address = f"extracts/{draft['extract']}/draft" if draft["extract"] else f"drafts/{draft['key']}"
        assert page.request.delete(f"/api/v1/{address}", headers=headers).ok


def _held_run(page: Page) -> None:
    found = page.request.get("/api/v1/runs?state=held&extract=samples_by_point").json()["results"]
    page.goto(f"/runs/{found[0]['id']}")
    page.get_by_text("Held: stored and proven").wait_for()


def _month(page: Page) -> None:
    page.goto("/schedules/chlorine-weekdays")
    page.get_by_role("link", name="run ").first.wait_for()


def _at(path: str):
    return lambda page: page.goto(path)


def _sources(page: Page) -> None:
    page.goto("/sources")
    check = page.get_by_role("button", name="Check all", exact=True)
    passed = page.get_by_label("works", exact=True).get_by_text("passed every step").first
    for _ in range(5):  # on a machine that is too busy a check may have met its deadline
        check.click()
        check.wait_for()
        if passed.is_visible():
            break
    passed.wait_for()
    page.get_by_label("archive", exact=True).get_by_text("database: there is no database").wait_for()


def _look(page: Page, table: str) -> None:
    page.goto(f"/sources/works?environment=live&table={table}")
    page.get_by_role("grid", name=table).get_by_role("gridcell").first.wait_for()


def _source(page: Page) -> None:
    _look(page, "work_orders")
    page.get_by_role("combobox", name="Column of the filter").click()
    page.keyboard.type("kind")
    page.keyboard.press("Enter")
    page.get_by_label("Value of the filter").fill("burst")
    page.get_by_role("button", name="Add filter").click()
    page.get_by_role("button", name="Count exactly").click()
    page.get_by_text("rows where kind is burst").wait_for()


def _chosen(page: Page, label: str, word: str) -> None:
    """By typing, once it is the one that Enter takes."""
    page.get_by_role("combobox", name=label, exact=True).last.focus()
    page.keyboard.type(word)
    page.locator(".ant-select-dropdown:visible .ant-select-item-option-active", has_text=word).wait_for()
    page.keyboard.press("Enter")


def _profile(page: Page) -> None:
    page.goto("/sources/metering?environment=live&table=readings")
    _chosen(page, "Column of the filter", "litres")
    _chosen(page, "Test", "less")
    page.get_by_label("Value of the filter").fill("900")
    page.get_by_role("button", name="Add filter").click()
    page.get_by_text("only where litres less 900").wait_for()
    page.get_by_role("tab", name="Profile").click()
    _chosen(page, "Profile of a column", "litres")
    page.get_by_role("img", name="Rows by value of litres").wait_for()


def _outline(page: Page) -> None:
    """A statement put together by choosing, with a join that multiplies rows, and the rows counted after each step."""
    page.goto("/new-extract/leaks-and-photographs")
    page.get_by_label("Name").fill("leaks_and_photographs")
    _chosen(page, "Source", "works")
    page.get_by_role("button", name="Put together by choosing", exact=True).click()
    _chosen(page, "From table", "leaks")
    page.get_by_role("combobox", name="With table").wait_for()
    _chosen(page, "With table", "photographs")
    page.get_by_text("Each row of leaks can appear several times").wait_for()
    _chosen(page, "Show a column", "leak_id")
    _chosen(page, "Show a column", "taken_at")
    page.get_by_role("button", name="Add condition", exact=True).click()
    _chosen(page, "Column, condition, 1", "taken_at")
    _chosen(page, "Test, condition, 1", "in period")
    page.get_by_label("Value, condition, 1").fill("last month")
    page.get_by_role("button", name="Count the rows after each step").click()
    page.get_by_text("rows", exact=False).and_(page.locator(".outline-rows")).first.wait_for()


def _collection(page: Page) -> None:
    page.goto("/sources/contacts?environment=live&table=contacts_2026_11")
    page.get_by_role("tab", name="Columns and keys").click()
    page.get_by_role("row", name="customer.address.town").wait_for()


def _record(page: Page) -> None:
    _look(page, "photographs")
    page.get_by_text("One record").click()
    page.get_by_role("button", name="image/png").click()
    page.get_by_role("img", name="picture, image/png").wait_for()


def _write(page: Page, name: str, text: str) -> None:
    page.goto(f"/extracts/{name}")
    page.get_by_text("No errors").wait_for()
    page.get_by_role("textbox", name="Statement", exact=True).click()
    if text:
        page.keyboard.press("Control+a")
        page.keyboard.insert_text(text)


def _completion(page: Page) -> None:
    text = "-- litres by district\nselect d.name, sum(r.litres) as litres\nfrom readings r\njoin meters m using (meter_id)\n"
    text += "join premises p using (premise_id)\njoin districts d using (district_id)\nwhere d.zone = :zone\n  and r."
    _write(page, "monthly_consumption", text)
    page.keyboard.type("re")
    page.get_by_role("listbox").wait_for()
    page.wait_for_timeout(800)


def _diagnostic(page: Page) -> None:
    text = "select d.nmae as district, count(*) as orders\nfrom districts d\nwhere d.zone = :zone\ngroup by d.nmae;\n\n"
    _write(page, "monthly_consumption", text + "select w.kind, w.opened_at from work_orders w")
    page.get_by_text("but in source works").wait_for()
    page.keyboard.press("Escape")


def _preview(page: Page) -> None:
    _write(page, "district_review", "")
    page.keyboard.press("Control+End")
    page.keyboard.press("Control+Enter")
    page.get_by_role("grid").wait_for()


def _counted(page: Page, name: str, part: str, title: str) -> None:
    """A part of an extract, opened, with the rows that a preview has counted."""
    page.goto(f"/extracts/{name}?open={part}")
    page.get_by_text("No errors").wait_for()
    page.get_by_role("button", name="Preview", exact=True).click()
    page.get_by_role("grid").wait_for()
    page.get_by_role("region", name=title, exact=True).evaluate("part => part.scrollIntoView()")


def _combination(page: Page) -> None:
    _counted(page, "consumption_and_contacts", "combines", "What it combines")
    page.get_by_role("button", name="contacts: the result of").click()
    page.get_by_label("Name of input 2").wait_for()


def _steps(page: Page) -> None:
    _counted(page, "near_limits", "done", "What is done to it")


def _lookup(page: Page) -> None:
    page.goto("/lookups/limits")
    page.get_by_label("limit, PB").wait_for()


def _dry_run(page: Page) -> None:
    page.goto("/extracts/estimated_readings")
    page.get_by_role("button", name="Dry run").click()
    page.get_by_text("Estimate", exact=True).wait_for()


def _differences(page: Page) -> None:
    path = "/api/v1/extracts/old_repairs"
    revision = page.request.get(path).json()["revision"]
    if revision["number"] == 1:
        text = revision["statement"].replace("o.kind, o.note", "o.kind, left(o.note, 80) as note")
        cookies = {cookie["name"]: cookie["value"] for cookie in page.context.cookies()}
        headers = {"X-CSRFToken": cookies["csrftoken"], "Referer": page.url}
        body = {"statement": text, "formats": ["xlsx"], "change_note": "short notes, for the crews' lists"}
        assert page.request.patch(path, data=body, headers=headers).ok
    page.goto("/extracts/old_repairs")
    page.get_by_role("button", name="Show: Who saved it").click()
    page.get_by_role("region", name="The statement").wait_for()


def _output(page: Page) -> None:
    _write(page, "monthly_consumption", "")
    page.get_by_role("button", name="Preview", exact=True).click()
    page.get_by_role("grid").wait_for()
    page.get_by_role("button", name="Change: What it gives").click()
    page.get_by_role("region", name="Sample of csv").wait_for()
    page.get_by_role("region", name="Sample of csv").scroll_into_view_if_needed()


def _results(page: Page) -> None:
    page.goto("/results")
    page.get_by_role("button", name="exceedances-live").filter(has_text=".xlsx").first.click()
    page.get_by_text("rows.").wait_for()


def _schedule(page: Page) -> None:
    page.goto("/schedules")
    page.get_by_role("button", name="Edit consumption-monthly").click()
    page.get_by_label("Rule, in words").fill("3rd working day of january, april, july and october 05:00")
    page.get_by_text(re.compile(r"20\d\d-\d\d-\d\d 05:00")).first.wait_for()


def _backfill(page: Page) -> None:
    page.goto("/schedules")
    page.get_by_role("button", name="More for night-flow-daily").click()
    page.get_by_role("menuitem", name="Backfill").click()
    page.get_by_role("dialog").get_by_text("has finished").first.wait_for()


PAGES = {
    "output": _output,
    "results": _results,
    "completion": _completion,
    "diagnostic": _diagnostic,
    "preview": _preview,
    "combination": _combination,
    "steps": _steps,
    "lookup": _lookup,
    "dry-run": _dry_run,
    "differences": _differences,
    "values": _at("/values"),
    "night": _at("/"),
    "runs": _at("/runs"),
    "run": _held_run,
    "extracts": _at("/extracts"),
    "extract": _at("/extracts/monthly_consumption"),
    "month": _month,
    "schedule": _schedule,
    "backfill": _backfill,
    "workers": _at("/workers"),
    "alerts": _at("/alerts"),
    "sources": _sources,
    "source": _source,
    "collection": _collection,
    "profile": _profile,
    "outline": _outline,
    "record": _record,
}
TERMINALS = {
    "source-check": ["ladle source check works --env live", "ladle source check archive"],
    "run-start": [
        "ladle run start monthly_consumption --set zone=Coast --formats csv,xlsx --into {out}",
        "ladle run start chlorine_residual",
        "ladle run list --limit 4",
    ],
}


WORKBOOKS = {"workbook": "ladle run start monthly_consumption --formats xlsx --option xlsx.title_rows={titles} --into {out}"}
"""Drawn from the file that the command leaves, sheet beside sheet, as its cells say."""
TITLES = "Fennmoor Water: consumption by district on {data_date}, {environment}"


def _typed(words: list[str], environment: dict[str, str]) -> str:
    """What the command leaves on a terminal, its errors last; its progress line, written to one, is gone by then."""
    controller, terminal = pty.openpty()
    process = subprocess.Popen(words, stdin=subprocess.DEVNULL, stdout=terminal, stderr=subprocess.PIPE, env=environment)
    os.close(terminal)
    said = b""
    while True:
        try:
            piece = os.read(controller, 65536)
        except OSError:  # the other end is closed
            break
        said += piece
    return (said + process.communicate()[1]).decode().replace("\r\n", "\n")


def _draw_terminal(url: str, steps: list[str], page: Page, target: Path) -> None:
    with tempfile.TemporaryDirectory() as folder:
        environment = os.environ | {
            "LADLE_URL": url, "LADLE_CONFIG": folder, "LADLE_PASSWORD": PASSWORD, "COLUMNS": "128", "TERM": "xterm-256color",
        }  # fmt: skip
        subprocess.run([LADLE, "sign-in", "rita"], env=environment, check=True, stdout=subprocess.DEVNULL)
        console = Console(record=True, width=128, file=io.StringIO(), highlight=False)
        for step in steps:
            console.print(Text("$ ", "dim") + Text(step.format(out="out"), "bold"))
            words = [LADLE, *step.format(out=f"{folder}/out").split()[1:]]
            console.print(Text.from_ansi(_typed(words, environment).replace(f"{folder}/", "").rstrip()))
            console.print()
    style = (
        "body{{margin:0;padding:18px 22px;background:{background};color:{foreground}}} pre{{font:14px/1.5 monospace;margin:0}}"
    )
    page.set_content(console.export_html(
        theme=DEFAULT_TERMINAL_THEME, inline_styles=True, code_format=f"<style>{style}</style><pre>{{code}}</pre>"
    ))  # fmt: skip
    page.screenshot(path=target)


def _draw_workbook(url: str, command: str, page: Page, target: Path | None) -> list[str]:
    """Draws it where there is a target; what it is made of: labels, with numbers masked."""
    with tempfile.TemporaryDirectory() as folder:
        environment = os.environ | {"LADLE_URL": url, "LADLE_CONFIG": f"{folder}/config", "LADLE_PASSWORD": PASSWORD}
        subprocess.run([LADLE, "sign-in", "rita"], env=environment, check=True, stdout=subprocess.DEVNULL)
        words = [word.format(out=folder, titles=TITLES) if "{" in word else word for word in command.split()[1:]]
        subprocess.run([LADLE, *words], env=environment, check=True, stdout=subprocess.DEVNULL)
        [path] = Path(folder).glob("*.xlsx")
        sheets = openpyxl.load_workbook(path).worksheets
    if target is not None:
        page.set_content(SHEETS + "".join(_sheet(sheet) for sheet in sheets))
        page.screenshot(path=target)
    labels = [str(cell.value) for sheet in sheets for row in sheet.iter_rows() for cell in row if cell.font.bold and cell.value]
    return sorted({re.sub(r"\d[\d.,:-]*", "#", label) for label in labels})


SHEETS = """<!doctype html><style>body{margin:0;padding:14px;background:#ddd;font:13px sans-serif}
body{display:flex;gap:18px;align-items:flex-start}
table{border-collapse:collapse;background:#fff}caption{caption-side:bottom;text-align:left;padding:4px 2px;color:#444}
td,th{border:1px solid #d0d0d0;padding:1px 6px;height:17px;white-space:nowrap}th{background:#eee;color:#666;font-weight:400}
td.number{text-align:right;font-variant-numeric:tabular-nums}</style>"""


def _sheet(sheet: Worksheet) -> str:
    """A sheet as a table, with its letters and numbers."""
    head = "".join(f"<th>{get_column_letter(n + 1)}</th>" for n in range(sheet.max_column))
    rows = [f"<tr><th>{n}</th>{_cells(row)}</tr>" for n, row in enumerate(sheet.iter_rows(), 1)]
    return f"<table><caption>{escape(sheet.title)}</caption><tr><th></th>{head}</tr>{''.join(rows)}</table>"


def _cells(row: tuple[Cell, ...]) -> str:
    if len(row) > 2 and all(cell.value is None for cell in row[1:]):  # a title goes on over the cells beside it
        return f'<td colspan="{len(row)}" style="font-weight:600">{escape(str(row[0].value))}</td>'
    return "".join(_cell(cell) for cell in row)


def _cell(cell: Cell) -> str:
    """Its text as its number format shows it, for the formats that the demo uses."""
    value, form = cell.value, cell.number_format
    if isinstance(value, datetime):
        text = f"{value:%Y-%m-%d}" if "h" not in form else f"{value:%Y-%m-%d %H:%M:%S}"
    elif isinstance(value, (int, float)) and "0.0" in form:
        text = f"{value:{',' if ',' in form else ''}.{len(form.partition('.')[2])}f}"
    else:
        text = "" if value is None else str(value)
    style = ' style="font-weight:600"' if cell.font.bold else ""
    return f"<td{style}{' class=number' if isinstance(value, (int, float)) else ''}>{escape(text)}</td>"


def _settled(page: Page, wanted: list[str] | None) -> list[str]:
    """What the page is made of once it is ``wanted``, or, not knowing that, once it is the same for two looks."""
    page.wait_for_load_state("networkidle")
    page.locator("h1").first.wait_for()
    page.wait_for_timeout(600)
    found, before = page.evaluate(MADE_OF), None
    deadline = time.monotonic() + SETTLES
    while time.monotonic() < deadline and found != (wanted or before):
        page.wait_for_timeout(600)
        found, before = page.evaluate(MADE_OF), found
    return found


def main() -> None:
    """Pictures of the pages named, or of all."""
    url, folder, *wanted = sys.argv[1:]
    checks = "--check" in wanted
    target = Path(folder)
    target.mkdir(parents=True, exist_ok=True)
    record = target / "pages.json"
    known = json.loads(record.read_text()) if record.is_file() else {}
    if checks:
        wanted = [*known]
    found: dict[str, list[str]] = {}
    with sync_playwright() as playwright:
        browser = launched(playwright)
        page = browser.new_context(viewport=SIZE, base_url=url, color_scheme="light").new_page()
        page.set_default_timeout(PATIENCE * 1000)
        _sign_in(page)
        for name, visit in PAGES.items():
            if not wanted or name in wanted:
                _drop_drafts(page)
                visit(page)
                found[name] = _settled(page, known.get(name) if checks else None)
                if not checks:
                    page.screenshot(path=target / f"{name}.png")
        for name, steps in TERMINALS.items():
            if not checks and (not wanted or name in wanted):
                _draw_terminal(url, steps, browser.new_context(viewport=SIZE).new_page(), target / f"{name}.png")
        for name, command in WORKBOOKS.items():
            if not wanted or name in wanted:
                plain = browser.new_context(viewport=SIZE).new_page()
                found[name] = _draw_workbook(url, command, plain, None if checks else target / f"{name}.png")
        browser.close()
    if checks:
        sys.exit(_changed(known, found))
    shown = {name: words for name, words in {**known, **found}.items() if (target / f"{name}.png").is_file()}
    record.write_text(json.dumps(dict(sorted(shown.items())), indent=1) + "\n")


def _changed(known: dict[str, list[str]], found: dict[str, list[str]]) -> int:
    """Says which pictures are out of date; their number."""
    changed = [name for name in known if known[name] != found.get(name)]
    for name in changed:
        now = found.get(name, [])
        gone, new = ([each for each in some if each not in other] for some, other in ((known[name], now), (now, known[name])))
        print(f"{name}.png is out of date: without {gone}, with {new}. Draw it anew: scripts/screenshots.py URL FOLDER {name}")
    return len(changed)


if __name__ == "__main__":
    main()
