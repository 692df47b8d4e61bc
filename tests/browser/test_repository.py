"""Extracts by the hundred, a night by its strip, and the run card beside it or in a drawer."""

from __future__ import annotations

import re

import pytest

from tests.conftest import until

from .conftest import expect, foresee, let_in, sign_in


@pytest.fixture(scope="module")
def many(service):
    with service.ladle("author") as ladle:
        for n in range(60):
            folder = ("found/deep/a", "found/deep/b", "found")[n % 3]
            ladle.extracts.add(f"found_{n}", "metering", "select name from districts", folder=folder, notes=f"Number {n}.")
        ladle.extracts.add("found_wrong", "metering", "select name,\n  zoen\nfrom districts", folder="found")
        ladle.runs.wait(ladle.runs.start("found_0")["id"])
        wrong = ladle.runs.start("found_wrong")["id"]
        until(lambda: ladle.runs.get(wrong)["state"] == "failed")
    return service


def rows(page):
    return page.locator("tbody tr.ant-table-row")


def test_search_folder_and_page_stand_in_the_address_and_back_brings_them_back(page, many):
    let_in(page, "author")
    page.goto("/extracts?search=found_")
    folders = page.get_by_role("navigation", name="Folders")
    expect(folders.get_by_role("button", name="found 61", exact=True)).to_be_visible()
    folders.get_by_role("button", name="deep 40", exact=True).click()
    expect(page.get_by_text("40 of 61", exact=True)).to_be_visible()
    page.get_by_role("searchbox", name="Search").fill("found_ state:never folder:found/deep/a")
    expect(page.get_by_text("19 in 3 folders", exact=True)).to_be_visible()
    page.go_back()
    expect(page.get_by_text("61 in 4 folders", exact=True)).to_be_visible()
    assert page.url.endswith("/extracts?search=found_")
    expect(rows(page)).to_have_count(50)
    page.get_by_role("columnheader", name="Extract").click()
    page.get_by_title("Next Page").click()
    expect(rows(page)).to_have_count(11)
    page.reload()
    expect(rows(page)).to_have_count(11)
    page.get_by_role("searchbox", name="Search").fill("found_ state:fialed")
    expect(page.get_by_text("Did you mean 'state:failed'?")).to_be_visible()
    foresee(page, "status of 400")
    page.get_by_role("searchbox", name="Search").fill("found_ state:failed")
    expect(rows(page).get_by_text("zoen")).to_be_visible()


def test_several_are_moved_and_tagged_with_an_undo_and_archived_after_one_question(page, many):
    let_in(page, "author")
    page.goto("/extracts?search=found_1")
    for name in ("found_11", "found_12"):
        page.get_by_role("checkbox", name=f"Choose {name}", exact=True).check()
    chosen = page.get_by_role("group", name="With those chosen")
    expect(chosen).to_contain_text("2 extracts chosen")
    chosen.get_by_role("button", name="Move…").click()
    form = page.get_by_role("dialog", name="Move 2 extracts")
    expect(form.get_by_role("combobox", name="Folder")).to_be_focused()
    page.keyboard.type("found/moved")
    form.get_by_role("button", name="Move", exact=True).click()
    told = page.get_by_role("status").filter(has_text="2 extracts moved to found/moved.")
    expect(told).to_be_visible()
    expect(page.get_by_role("navigation", name="Folders").get_by_text("moved")).to_be_visible()
    told.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("navigation", name="Folders").get_by_text("moved")).to_have_count(0)
    page.get_by_role("checkbox", name="Choose found_11", exact=True).check()
    chosen.get_by_role("button", name="Archive…").click()
    page.get_by_role("dialog").get_by_role("button", name="Archive").click()
    expect(page.get_by_role("status").filter(has_text="found_11 archived.")).to_be_visible()
    expect(page.get_by_role("link", name="found_11", exact=True)).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_role("link", name="found_11", exact=True)).to_be_visible()


def test_favourites_and_what_was_opened_are_a_click_away(page, many):
    let_in(page, "runner")
    page.goto("/extracts/found_7")
    star = page.get_by_role("button", name="found_7 among your favourites")
    star.click()
    expect(star).to_have_attribute("aria-pressed", "true")
    page.get_by_role("link", name="Extracts", exact=True).click()
    page.get_by_text("Favourites", exact=True).click()
    expect(rows(page)).to_have_count(1)
    page.get_by_text("Recently opened", exact=True).click()
    expect(rows(page).first).to_contain_text("found_7")
    page.get_by_role("button", name="found_7 among your favourites").click()
    page.get_by_text("Favourites", exact=True).click()
    page.get_by_role("button", name="Show all").click()
    expect(rows(page)).to_have_count(50)
    expect(page.get_by_role("button", name="New extract")).to_have_count(0)


def test_the_bars_of_the_night_are_links_and_a_place_in_a_statement_leads_there(page, many):
    sign_in(page, "author")
    strip = page.get_by_role("group", name="Runs of the night")
    strip.get_by_role("link").first.focus()
    page.keyboard.press("ArrowRight")
    expect(strip.get_by_role("link").nth(1)).to_be_focused()
    page.get_by_text("List", exact=True).click()
    page.get_by_role("link", name="found_wrong").last.click()
    page.wait_for_url("**/runs/*")
    page.get_by_role("link", name=re.compile("line 2, column 3")).click()
    page.wait_for_url("**/extracts/found_wrong?line=2&column=3")
    editor = page.get_by_role("textbox", name="Statement", exact=True)
    expect(editor).to_be_focused()
    page.keyboard.press("Delete")
    page.keyboard.type("zone")
    expect(editor).to_contain_text("zone")
    page.get_by_role("button", name="Undo changes").click()
    page.goto("/?date=2026-01-15")
    expect(page.get_by_role("heading", name="Night to 2026-01-15")).to_be_visible()
    expect(page.get_by_text("All is well")).to_be_visible()
    page.get_by_role("button", name="Last night").click()
    expect(page.get_by_role("heading", name="Last night", exact=True)).to_be_visible()


def test_the_run_card_is_beside_or_a_drawer_and_keeps_what_was_typed(page, many):
    let_in(page, "author")
    page.goto("/extracts/district_use")
    page.get_by_label("Data date").fill("2026-11-24")
    page.get_by_role("button", name="Close this card").click()
    expect(page.get_by_label("Data date")).not_to_be_visible()
    page.get_by_role("button", name="Run…").click()
    expect(page.get_by_label("Data date")).to_have_value("2026-11-24")
    page.set_viewport_size({"width": 800, "height": 800})
    expect(page.get_by_label("Data date")).not_to_be_visible()
    page.get_by_role("button", name="Run…").click()
    drawer = page.get_by_role("dialog", name="Run now")
    expect(drawer.get_by_label("Data date")).to_have_value("2026-11-24")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Menu").click()
    page.get_by_role("link", name="Runs", exact=True).click()
    page.wait_for_url("**/runs")
    expect(page.get_by_role("link", name="Extracts", exact=True)).not_to_be_visible()
