"""The console in a real browser: from sign-in to downloaded file, by mouse and keyboard, with nothing to complain of."""

from __future__ import annotations

import json
import re
import sqlite3
from pathlib import Path

from patient_ladle.service.demo.field_data import picture
from tests.conftest import PASSWORD, until

from .conftest import expect, foresee, let_in, offered, sign_in

PNG = picture(3)
AXE = (Path(__file__).parents[2] / "console/node_modules/axe-core/axe.min.js").read_text()


ACCESSIBILITY = {"runOnly": ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa"]}


def violations(page, rules=ACCESSIBILITY):
    page.evaluate(AXE)  # by the debugger, so that the content security policy needs no hole
    found = page.evaluate("rules => axe.run(document, rules)", rules)["violations"]
    return [(v["id"], v["nodes"][0]["target"], v["nodes"][0]["failureSummary"][:200]) for v in found]


def test_from_sign_in_to_downloaded_file(page):
    sign_in(page, "runner")
    page.get_by_role("link", name="Extracts").click()
    page.get_by_role("searchbox", name="Search").fill("district")
    page.get_by_role("link", name="district_use", exact=True).click()
    expect(page.get_by_text("The statement is shown to authors.")).to_be_visible()
    expect(page.get_by_role("link", name="Workers")).to_have_count(0)
    page.get_by_role("button", name="Run now").click()
    page.wait_for_url("**/runs/*")
    expect(page.get_by_text("Finished", exact=True)).to_be_visible()
    expect(page.get_by_label("Stages").get_by_text("deliver")).to_be_visible()
    expect(page.get_by_label("Run log")).to_contain_text("finished: 2 rows")
    with page.expect_download() as download:
        page.get_by_role("link", name="json", exact=False).filter(has_text=".json").click()
    rows = json.loads(Path(download.value.path()).read_text())
    assert [row["name"] for row in rows] == ["Alder Moor", "Birch Fen"]
    page.get_by_role("button", name="Run again").click()
    expect(page.get_by_text("Same result")).to_be_visible()
    page.get_by_role("link", name="Last night").click()
    expect(page.get_by_role("group", name="Runs of the night, by folder")).to_be_visible()
    page.get_by_role("link", name="Runs", exact=True).click()
    page.get_by_role("button", name="finished").click()
    expect(page.get_by_role("link", name="district_use").first).to_be_visible()


def test_a_wrong_password_and_a_failed_run_say_the_next_step(page):
    page.goto("/")
    page.get_by_label("Name").fill("author")
    page.get_by_label("Password").fill("wrong-password")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("Check both, or ask an administrator.")
    foresee(page, "status of 401")  # the browser itself notes the refused call
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Last night", exact=True)).to_be_visible()
    page.goto("/extracts/broken")
    page.get_by_role("button", name="Run now").click()
    expect(page.get_by_role("alert")).to_contain_text("column d.nmae does not exist (line 1, column 8)")
    expect(page.get_by_role("alert")).to_contain_text('Perhaps you meant to reference the column "d.name".')


def test_schedules_and_sources_by_keyboard(page):
    let_in(page)
    page.goto("/schedules")
    page.get_by_role("button", name="Add schedule").focus()
    page.keyboard.press("Enter")
    form = page.get_by_role("main")
    form.get_by_label("Name").fill("by-keyboard")
    form.get_by_label("Extract").focus()
    page.keyboard.type("district_use")
    offered(page, "district_use")
    page.keyboard.press("Enter")
    form.get_by_label("Rule").fill("0 6 * *")
    expect(form.get_by_role("alert")).to_contain_text("a crontab rule has five")
    foresee(page, "status of 400")
    form.get_by_label("Rule").fill("weekdays 06:00")
    expect(form.get_by_label("Next due times").get_by_text("06:00")).to_have_count(5)
    form.get_by_label("First date").fill("2031-01-03")
    expect(form.get_by_label("Next due times")).to_contain_text("2031-01-03 06:00")
    form.get_by_label("First date").fill("")
    form.get_by_label("Flagged late unless finished by").fill("08:00")
    form.get_by_role("button", name="Save schedule").click()
    expect(page.get_by_role("heading", name="by-keyboard", exact=True)).to_be_visible()
    page.get_by_role("link", name="Schedules", exact=True).click()
    expect(page.get_by_role("cell", name="by-keyboard", exact=True)).to_be_visible()
    page.get_by_role("button", name="More for by-keyboard").click()
    page.get_by_role("menuitem", name="Backfill").click()
    form = page.get_by_role("dialog", name="Backfill by-keyboard")
    form.get_by_label("From").fill("2026-11-02")
    form.get_by_label("to", exact=True).fill("2026-11-04")
    expect(form.get_by_text("no record of it")).to_have_count(3)
    expect(form.get_by_role("button", name="Start 3 runs")).to_be_enabled()
    form.get_by_role("button", name="Cancel").click()
    page.get_by_role("button", name="Pause by-keyboard").click()
    form = page.get_by_role("dialog", name="Pause by-keyboard")
    form.get_by_label("Reason").fill("meter swap")
    form.get_by_role("button", name="Pause").click()
    expect(page.get_by_text("paused by administrator: meter swap")).to_be_visible()
    page.get_by_role("button", name="Edit by-keyboard").click()
    expect(page.get_by_label("Flagged late unless finished by")).to_have_value("08:00")
    page.get_by_role("button", name="Back").click()
    page.get_by_role("link", name="Schedules", exact=True).click()
    page.get_by_role("button", name="More for by-keyboard").click()
    page.get_by_role("menuitem", name="Remove").click()
    page.get_by_role("dialog").get_by_role("button", name="Remove").click()
    expect(page.get_by_role("cell", name="by-keyboard", exact=True)).to_have_count(0)


def test_where_no_schedule_is_that_is_said_and_how_to_add_one(page):
    nothing = {"count": 0, "next": None, "previous": None, "results": []}
    page.route(re.compile(r"/api/v1/schedules(\?|$)"), lambda route: route.fulfill(json=nothing))
    let_in(page)
    page.goto("/schedules")
    expect(page.get_by_text("Nothing runs by itself yet.")).to_be_visible()
    expect(page.get_by_role("button", name="Add schedule")).to_be_visible()
    page.goto("/sources")
    page.get_by_role("button", name="Check laboratory").click()
    expect(page.get_by_label("laboratory", exact=True)).to_contain_text("may read")


def test_a_source_is_explored_from_search_to_extract(page, service, maria):
    maria.carry_out([f"replace into orders values (7, 2, '2026-11-03 08:00:00', 0x{PNG.hex()})"], "works")
    sign_in(page, "author")
    page.get_by_role("link", name="Sources").click()
    page.get_by_role("link", name="works", exact=True).click()
    expect(page.get_by_role("heading", name="works", exact=True)).to_be_visible()
    page.get_by_role("button", name="Check", exact=True).click()
    page.get_by_text("The last check passed").click()
    expect(page.get_by_label("Steps of the check")).to_contain_text("a write was refused")
    page.get_by_role("button", name="districts").click()
    grid = page.get_by_role("grid", name="districts")
    expect(grid.get_by_text("Birch Fen")).to_be_visible()
    expect(grid.get_by_title("null")).to_be_visible()
    page.get_by_role("combobox", name="Column of the filter").click()
    page.keyboard.type("zone")
    page.keyboard.press("Enter")
    page.get_by_label("Value of the filter").fill("South")
    page.get_by_role("button", name="Add filter").click()
    expect(page.get_by_text("only where zone is South")).to_be_visible()
    expect(page.get_by_text("1 row is all there is")).to_be_visible()
    page.get_by_role("button", name="Count exactly").click()
    expect(page.get_by_text("1 row where zone is South")).to_be_visible()
    assert violations(page) == []
    page.get_by_text("One record").click()
    expect(page.get_by_label("Row 1")).to_contain_text("Birch Fen")
    page.get_by_text("Transposed").click()
    expect(page.get_by_role("rowheader", name="name")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("button", name="Save these rows", exact=True).click()
    assert Path(download.value.path()).read_text() == "district_id,name,zone\n2,Birch Fen,South\n"
    page.get_by_text("The statement behind this").click()
    page.get_by_label("Name of the extract").fill("southern_districts")
    page.get_by_role("button", name="Make it an extract").click()
    expect(page.get_by_role("heading", name="southern_districts")).to_be_visible()
    expect(page.get_by_text("reads works (mariadb), read-only")).to_be_visible()
    page.get_by_role("button", name="Run now").click()
    expect(page.get_by_text("Finished", exact=True)).to_be_visible()
    page.goto("/sources/works?environment=live&table=orders")
    page.get_by_role("button", name="image/png").first.click()
    expect(page.get_by_role("img", name="photo, image/png")).to_be_visible()
    photo = page.get_by_role("img", name="photo, image/png")
    until(lambda: photo.evaluate("picture => picture.naturalWidth") == 48)
    page.keyboard.press("Escape")
    page.get_by_role("tab", name="Columns and keys").click()
    expect(page.get_by_role("link", name="districts")).to_be_visible()
    assert violations(page) == []
    page.get_by_role("tab", name="Counts").click()
    page.get_by_role("combobox", name="Count by").click()
    page.keyboard.type("opened_at")
    page.keyboard.press("Enter")
    page.get_by_role("combobox", name="Period").click()
    page.get_by_title("by month").click()
    page.get_by_role("button", name="Count", exact=True).click()
    expect(page.get_by_role("img", name="Rows by month of opened_at")).to_be_visible()


def test_two_thousand_tables_are_browsed_and_columns_and_cells_chosen(page, service, home):
    path = home / "network.db"
    columns = ", ".join(f"c{n} text" for n in range(8))
    with sqlite3.connect(path) as connection:
        for number in range(2000):
            connection.execute(f"create table pipe_{number:04} (id integer, pressure real, {columns})")
        connection.executemany("insert into pipe_1999 (id, pressure) values (?, ?)", [(1, 4.5), (2, 4.75), (3, 5)])
    connection.close()
    with service.ladle() as ladle:
        ladle.sources.add("network", "sqlite", {"live": {"address": {"path": str(path)}}})
        ladle.sources.run_query("network", "live", "catalogue")
    let_in(page, "author")
    page.goto("/sources/network?environment=live")
    tree = page.get_by_role("navigation", name="Tables")
    expect(tree.get_by_role("button", name="pipe_0000")).to_be_visible()
    assert tree.get_by_role("button").count() < 100, "only what is in sight is drawn"
    tree.get_by_role("button", name="pipe_0000").press("ArrowDown")
    expect(tree.get_by_role("button", name="pipe_0001")).to_be_focused()
    page.locator(".tree-lines").evaluate("box => box.scrollTo(0, box.scrollHeight)")
    tree.get_by_role("button", name="pipe_1999").click()
    grid = page.get_by_role("grid", name="pipe_1999")
    expect(grid.get_by_text("4.75")).to_be_visible()
    grid.get_by_role("button", name="pressure").drag_to(grid.get_by_role("button", name="id"))
    expect(grid.get_by_role("columnheader").nth(1)).to_have_text("pressure")
    grid.get_by_text("4.75").click()
    grid.get_by_role("gridcell", name="3").click(modifiers=["Shift"])
    expect(page.get_by_text("4 cells chosen")).to_be_visible()
    page.context.grant_permissions(["clipboard-read", "clipboard-write"])
    page.keyboard.press("Control+c")
    expect(page.get_by_text("Copied 2 rows with their headers.")).to_be_visible()
    assert page.evaluate("navigator.clipboard.readText()") == "pressure\tid\n4.75\t2\n5\t3"
    page.get_by_label("Find a table").fill("0777")
    expect(tree.get_by_role("button", name="pipe_")).to_have_count(1)
    page.get_by_role("link", name="Sources").click()
    page.get_by_label("Find tables and columns").fill("pipe_0777")
    expect(page.get_by_role("link", name="pipe_0777")).to_be_visible()


def test_a_reader_sees_no_button_that_would_be_refused(page):
    let_in(page, "reader")
    page.goto("/extracts/district_use")
    expect(page.get_by_role("heading", name="district_use")).to_be_visible()
    page.wait_for_load_state("networkidle")
    for name in ("Run now", "Archive", "Save revision"):
        expect(page.get_by_role("button", name=name)).to_have_count(0)
