"""A combination in a real browser: its inputs chosen, previewed, saved and run, each shown where it stands."""

from __future__ import annotations

import pytest

from .conftest import expect, foresee, let_in
from .test_console import violations
from .test_outline import choose, press

USE = "select district_id, sum(litres) as litres from readings where reading_id <= :most group by 1 order by 1"


@pytest.fixture(scope="module")
def parts(service):
    with service.ladle("author") as ladle:
        ladle.lookups.add("browsed_titles", text="id,title\n1,Moor\n2,Fen\n")
        ladle.extracts.add("browsed_use", "metering", USE, parameters=[{"name": "most", "type": "integer", "default": 100}])
    return service


def test_a_combination_is_put_together_previewed_saved_and_run(page, parts):
    let_in(page, "author")
    page.goto("/new-extract/browsed-inputs")
    page.get_by_label("Name", exact=True).fill("browsed_both")
    choose(page, "Environment to try it in", "live")
    press(page, "Change: What it combines")
    expect(page.get_by_text("Each is a table for the statement")).to_be_visible()
    press(page, "Add an input")
    choose(page, "What input 1 is", "browsed_use")
    expect(page.get_by_label("Name of input 1")).to_have_value("browsed_use")
    page.get_by_label("Name of input 1").fill("used")
    choose(page, "Where most of input 1 comes from", "a value")
    page.get_by_label("Value of most of input 1").fill("many")
    press(page, "Add an input")
    choose(page, "What input 2 is", "browsed_titles")
    expect(page.get_by_role("button", name="browsed_titles: the lookup browsed_titles")).to_be_visible()
    page.get_by_role("textbox", name="Statement").fill(
        "select t.title, u.litres from used u join browsed_titles t on t.id = u.district_id order by 1"
    )
    expect(page.get_by_text("'many', which is not a whole number").first).to_be_visible()
    page.get_by_role("button", name="used: the result of browsed_use").click()
    page.get_by_label("Value of most of input 1").fill("300")
    expect(page.get_by_text("No errors (checked by the database)")).to_be_visible()
    press(page, "Preview")
    expect(page.get_by_label("Rows of input 1", exact=True)).to_have_text("3 rows")
    expect(page.get_by_role("grid")).to_contain_text("Moor")
    assert violations(page) == []
    press(page, "Remove input 2")
    expect(page.get_by_text("there is no input 'browsed_titles'").first).to_be_visible()
    press(page, "Undo")
    expect(page.get_by_text("No errors (checked by the database)")).to_be_visible()
    press(page, "Save extract")
    expect(page.get_by_text("Saved as revision 1.")).to_be_visible()
    expect(page.get_by_text("used (browsed_use) and browsed_titles")).to_be_visible()
    expect(page.get_by_text("reads its 2 inputs")).to_be_visible()
    press(page, "Dry run")
    expect(page.get_by_role("dialog")).to_contain_text("browsed_use, revision 1, on metering, most = 300")
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)
    press(page, "Run now")
    inputs = page.get_by_role("table", name="Inputs")
    expect(inputs.get_by_text("Finished")).to_be_visible()
    expect(page.get_by_role("link", name="browsed_both-")).to_be_visible()
    expect(page.get_by_text("input used: 3 rows loaded")).to_be_visible()
    assert violations(page) == []
    inputs.get_by_role("link", name="run ").click()
    expect(page.get_by_role("definition").get_by_role("link", name="run ")).to_be_visible()
    expect(page.get_by_role("button", name="Publish")).to_have_count(0)
    page.goto("/extracts/browsed_use")
    expect(page.get_by_role("link", name="browsed_both")).to_be_visible()


def test_a_step_looks_up_in_an_input(page, parts):
    with parts.ladle("author") as ladle:
        inputs = [
            {"name": "used", "extract": "browsed_use", "values": {"most": 300}},
            {"name": "titles", "lookup": "browsed_titles"},
        ]
        ladle.extracts.add("browsed_looked", "", "select district_id, litres from used order by 1", inputs=inputs)
    let_in(page, "author")
    page.goto("/extracts/browsed_looked?open=done")
    expect(page.get_by_text("The statement gives district_id, litres")).to_be_visible()
    foresee(page, "status of 400")  # of a step that is half told
    choose(page, "Add a step", "Look up")
    choose(page, "In, step 1", "titles")
    page.get_by_label("Where equal 1, left").fill("district_id")
    page.get_by_label("Where equal 1, right").fill("ix")
    page.get_by_label("New columns 1, left").fill("known_as")
    page.get_by_label("New columns 1, right").fill("title")
    expect(page.get_by_text("there is no column of the input 'titles' 'ix'")).to_be_visible()
    page.get_by_label("Where equal 1, right").fill("id")
    expect(page.get_by_role("button", name="look up title as known_as in the input titles by district_id = id")).to_be_visible()
    press(page, "Preview")
    expect(page.get_by_role("grid")).to_contain_text("Moor")
    assert violations(page) == []
    press(page, "Save revision")
    expect(page.get_by_text("Saved as revision 2.")).to_be_visible()
