"""A statement put together in a real browser, by keyboard, from an empty page to a saved extract; and left, and come back to."""

from __future__ import annotations

import re

import pytest

from .conftest import expect, offered, sign_in
from .test_console import violations


@pytest.fixture(scope="module")
def gathered(service):
    """The tables of ``metering`` have been looked at."""
    with service.ladle("author") as ladle:
        ladle.sources.run_query("metering", "live", "catalogue")
    return service


RUNS = ("Preview", "Plan", "Run without saving")
"""What runs the text: nothing of it may run while the form beside it shows something else."""


def choose(page, label, word):
    """By typing and Enter, once it is the one that Enter takes."""
    page.get_by_role("combobox", name=label, exact=True).focus()
    page.keyboard.type(word)
    offered(page, word)
    page.keyboard.press("Enter")


def press(page, name):
    """By the keyboard."""
    button = page.get_by_role("button", name=name, exact=True)
    expect(button).to_be_enabled()
    button.focus()
    page.keyboard.press("Enter")


def test_from_an_empty_page_to_a_saved_extract_by_keyboard(page, gathered):
    sign_in(page, "author")
    page.goto("/new-extract/litres-by-district")
    page.get_by_label("Name").fill("chosen_litres")
    choose(page, "Source", "metering")
    press(page, "Put together by choosing")
    choose(page, "From table", "readings")
    choose(page, "With table", "districts")
    expect(page.get_by_role("combobox", name="Left column 1, table 1")).to_be_visible()
    choose(page, "Show a column", "d.name")
    choose(page, "Show a column", "readings.litres")
    choose(page, "Aggregate, shown 2", "sum")
    expect(page.get_by_role("region", name="Grouped")).to_contain_text("by d.name")
    press(page, "Add condition")
    choose(page, "Column, condition, 1", "readings.read_at")
    choose(page, "Test, condition, 1", "in period")
    page.get_by_label("Value, condition, 1").fill("no such period")
    expect(page.get_by_role("region", name="Where").get_by_role("alert")).to_be_visible()
    for name in RUNS:
        expect(page.get_by_role("button", name=name, exact=True)).to_be_disabled()
    page.get_by_label("Value, condition, 1").fill("2026-11-01 to 2026-11-30")
    for name in RUNS:
        expect(page.get_by_role("button", name=name, exact=True)).to_be_enabled()
    choose(page, "Sort by", "name")
    editor = page.get_by_role("textbox", name="Statement", exact=True)
    expect(editor).to_contain_text("group by d.name")
    expect(editor).to_contain_text("order by name")
    press(page, "Count the rows after each step")
    expect(page.get_by_role("region", name="With", exact=True)).to_contain_text("20,000 rows")
    assert violations(page) == []
    press(page, "Save extract")
    page.wait_for_url("**/extracts/chosen_litres")
    with gathered.ladle("author") as ladle:
        revision = ladle.extracts.get("chosen_litres")["revision"]
    assert revision["outline"]["grouped"] == [{"column": "d.name"}]
    assert revision["statement"].startswith("select d.name, sum(readings.litres) as sum_litres\nfrom readings\n")


def test_an_error_stands_at_its_part_and_keeps_from_saving(page, gathered):
    with gathered.ladle("author") as ladle:
        ladle.extracts.add("chosen_wrong", "metering", outline={"outline": 1, "from": {"table": "districts"}})
    sign_in(page, "author")
    page.goto("/extracts/chosen_wrong?open=outline")
    press(page, "and an expression")
    page.get_by_label("Expression, shown 1").fill("no_such_function(zone)")
    page.get_by_label("Name, shown 1").fill("x")
    expect(page.get_by_role("region", name="Show").get_by_role("alert")).to_contain_text("no_such_function")
    page.get_by_label("Expression, shown 1").fill("lower(zoen)")
    expect(page.get_by_role("region", name="Show").get_by_role("alert")).to_contain_text("Did you mean 'zone'?")
    expect(page.get_by_role("button", name="Save revision")).to_be_disabled()
    expect(page.get_by_text("so nothing runs from here")).to_be_visible()
    expect(page.get_by_text("No errors")).to_have_count(0)
    page.get_by_role("textbox", name="Statement", exact=True).press("Control+Enter")
    press(page, "Close the form")
    press(page, "Open the form")
    expect(page.get_by_text(re.compile("Running query|first row after"))).to_have_count(0)
    page.get_by_label("Expression, shown 1").fill("lower(zone)")
    expect(page.get_by_role("textbox", name="Statement", exact=True)).to_contain_text("lower(zone) as x")
    expect(page.get_by_role("button", name="Save revision")).to_be_enabled()


def test_a_text_edited_by_hand_leaves_its_outline_and_comes_back(page, gathered):
    with gathered.ladle("author") as ladle:
        ladle.extracts.add("chosen_left", "metering", outline={"outline": 1, "from": {"table": "districts"}})
        ladle.extracts.save("chosen_left", statement="select name from districts where zone is null")
    sign_in(page, "author")
    page.goto("/extracts/chosen_left?open=outline")
    press(page, "What going back would change")
    expect(page.get_by_role("region", name="What going back would change")).to_contain_text("where zone is null")
    press(page, "Back to the outline")
    expect(page.get_by_role("textbox", name="Statement", exact=True)).to_contain_text("select district_id, name, zone")
    expect(page.get_by_role("group", name="The statement, put together")).to_be_visible()
