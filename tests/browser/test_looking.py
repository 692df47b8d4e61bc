"""Looking deeper in a real browser: text found in rows, a column's profile, a plan, periods drawn, whole tables, one search."""

from __future__ import annotations

from pathlib import Path

import pytest

from .conftest import expect, let_in
from .test_console import violations
from .test_outline import choose, press


@pytest.fixture(scope="module")
def gathered(service):
    """The tables of ``metering`` have been looked at."""
    with service.ladle("author") as ladle:
        ladle.sources.run_query("metering", "live", "catalogue")
    return service


def test_text_is_found_in_rows_and_its_rows_become_a_file(page, gathered):
    let_in(page, "author")
    page.goto("/sources/metering?environment=live&table=districts")
    expect(page.get_by_role("grid")).to_contain_text("Alder Moor")
    page.get_by_label("Find in these rows").fill("o")
    expect(page.get_by_text("4 places in 3 rows")).to_be_visible()
    page.get_by_label("Find in these rows").fill("holt")
    page.keyboard.press("Enter")
    expect(page.get_by_text("1 of 1 place in 1 row")).to_be_visible()
    expect(page.locator(".cell.active mark")).to_have_text("Holt")
    assert violations(page) == []
    press(page, "Mark 1 row")
    with page.expect_download() as download:
        press(page, "Save 1 marked row")
    assert Path(download.value.path()).read_text() == 'district_id,name,zone\n3,"Heron ""Holt"", old",\n'
    with page.expect_download() as download:
        choose(page, "Save these rows as", "xlsx")
    assert download.value.suggested_filename == "districts-look.xlsx"


def test_a_filter_holds_for_rows_counts_and_profile_and_a_look_is_saved_as_its_outline(page, gathered):
    let_in(page, "author")
    page.goto("/sources/metering?environment=live&table=readings")
    expect(page.get_by_role("grid")).to_be_visible()
    choose(page, "Column of the filter", "district_id")
    page.get_by_label("Value of the filter").fill("2")
    page.keyboard.press("Enter")
    expect(page.get_by_text("only where district_id is 2")).to_be_visible()
    page.get_by_role("tab", name="Profile").click()
    profile = page.get_by_role("tabpanel", name="Profile")
    profile.get_by_role("combobox", name="Profile of a column").focus()
    page.keyboard.type("read_at")
    page.keyboard.press("Enter")
    told = page.get_by_role("region", name="Profile of read_at")
    expect(told).to_contain_text("where district_id is 2")
    expect(told).to_contain_text("6,667")
    expect(told.get_by_role("img", name="Rows by day of read_at")).to_be_visible()
    assert violations(page) == []
    page.get_by_role("tab", name="Counts").click()
    choose(page, "Count by", "read_at")
    page.get_by_role("combobox", name="Period").click()
    page.get_by_title("by week").click()
    press(page, "Count")
    expect(page.get_by_role("img", name="Rows by week of read_at")).to_be_visible()
    page.get_by_role("tabpanel", name="Counts").get_by_text("As numbers").click()
    expect(page.get_by_role("table", name="Rows by week of read_at")).to_contain_text("2026-11-02")
    assert violations(page) == []
    page.get_by_role("tab", name="Rows").click()
    rows = page.get_by_role("tabpanel", name="Rows")
    rows.get_by_text("The statement behind this").click()
    rows.get_by_label("Name of the extract").fill("look_as_outline")
    press(page, "Make it an extract")
    expect(page.get_by_role("heading", name="look_as_outline")).to_be_visible()
    expect(page.get_by_text("The text is put together from an outline")).to_be_visible()
    expect(page.get_by_role("textbox", name="Statement", exact=True)).to_contain_text("district_id = :district_id")


def test_ticked_tables_become_one_workbook(page, gathered):
    let_in(page, "author")
    page.goto("/sources/metering?environment=live")
    press(page, "Take whole tables")
    for name in ("districts", "readings"):
        page.get_by_role("checkbox", name=name, exact=True).check()
    expect(page.get_by_text("2 tables ticked")).to_be_visible()
    assert violations(page) == []
    page.get_by_label("Name of the extract of whole tables").fill("two_whole_tables")
    press(page, "Make an extract")
    expect(page.get_by_role("heading", name="two_whole_tables")).to_be_visible()
    expect(page.get_by_role("textbox", name="Statement", exact=True)).to_contain_text("-- readings")


def test_a_plan_warns_and_a_stored_file_has_profiles(page, gathered):
    with gathered.ladle("author") as ladle:
        ladle.extracts.add("planned", "metering", "select name, zone from districts order by name", formats=["csv"])
        run = ladle.runs.wait(ladle.runs.start("planned")["id"], 120)
    let_in(page, "author")
    page.goto("/extracts/planned")
    press(page, "Plan")
    plan = page.get_by_role("region", name="Plan")
    expect(plan).to_contain_text("sorts by name")
    expect(plan).to_contain_text("The statement was not run.")
    assert violations(page) == []
    page.goto(f"/runs/{run['id']}")
    page.get_by_role("button", name="Preview planned").click()
    expect(page.get_by_role("grid")).to_contain_text("Birch Fen")
    choose(page, "Profile of a column", "zone")
    expect(page.get_by_role("region", name="Profile of zone")).to_contain_text("1, 33.3 %")
    assert violations(page) == []


def test_one_key_finds_and_opens_without_a_mouse(page, gathered):
    let_in(page, "author")
    page.goto("/")
    expect(page.get_by_role("heading", name="Last night", exact=True)).to_be_visible()
    page.keyboard.press("Control+k")
    field = page.get_by_role("combobox", name="Find or do")
    expect(field).to_be_focused()
    assert violations(page) == []
    page.keyboard.type("district_u")
    expect(page.get_by_role("option", selected=True)).to_contain_text("district_use")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="district_use")).to_be_visible()
    page.get_by_role("textbox", name="Statement", exact=True).focus()
    page.keyboard.press("Control+k")
    expect(page.get_by_role("option", selected=True)).to_contain_text("district_use")
    page.keyboard.type("litres")
    column = page.get_by_role("option", name="column litres in metering readings")
    expect(column).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("textbox", name="Statement", exact=True)).to_be_focused()
    page.get_by_role("button", name="Find Ctrl K").click()
    page.keyboard.type("result f")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Result files")).to_be_visible()
