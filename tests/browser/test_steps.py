"""Steps and lookups in a real browser: added from a header, read as sentences, counted, moved, undone; rows edited in place."""

from __future__ import annotations

import pytest

from .conftest import expect, foresee, let_in
from .test_console import violations
from .test_outline import choose, press


@pytest.fixture(scope="module")
def stepped(service):
    with service.ladle("author") as ladle:
        ladle.lookups.add("browsed_zones", text="zone,title\nNorth,the north\nSouth,the south\n", note="for readers")
        ladle.extracts.add(
            "by_steps", "metering", "select district_id, litres, estimated from readings where reading_id <= 300"
        )
    return service


def rows_after(page, number):
    return page.get_by_label(f"Rows after step {number}", exact=True)


def test_steps_are_added_counted_moved_undone_and_saved(page, stepped):
    let_in(page, "author")
    foresee(page, "status of 400")  # a step is looked at while it is written, and whoever writes slowly has written half of it
    page.goto("/extracts/by_steps")
    press(page, "Change: What is done to it")
    expect(page.get_by_text("The statement gives district_id, litres, estimated")).to_be_visible()
    choose(page, "Add a step", "Keep rows where")
    page.get_by_label("Condition, step 1").fill("litres > 100")
    expect(page.get_by_role("button", name="keep rows where litres > 100")).to_be_visible()
    press(page, "Preview")
    expect(rows_after(page, 1)).to_have_text("300 → 200 rows")
    page.get_by_role("button", name="Add a step with litres", exact=True).click()
    page.get_by_role("menuitem", name="Share of total").click()
    expect(page.get_by_role("button", name="share = share of litres in its total")).to_be_visible()
    choose(page, "Add a step", "Group")
    page.get_by_label("New columns 1, right").fill("sum(liters)")
    expect(page.get_by_text("step 3, columns[0] as: there is no column 'liters'")).to_be_visible()
    page.get_by_label("New columns 1, right").fill("sum(litres)")
    expect(page.get_by_text("there is no column")).to_have_count(0)
    press(page, "Preview")
    expect(rows_after(page, 3)).to_have_text("200 → 1 rows")
    assert violations(page) == []
    press(page, "Show the rows after step 1")
    expect(page.get_by_role("grid")).to_contain_text("estimated")
    expect(rows_after(page, 1)).to_have_text("300 → 200 rows")
    expect(rows_after(page, 3)).to_have_text("")
    press(page, "Move step 3 up")
    expect(
        page.get_by_text("step 3: there is no column 'litres'").or_(page.get_by_text("step 3, of: there is no column 'litres'"))
    ).to_be_visible()
    press(page, "Undo")
    page.get_by_role("switch", name="Step 2 is on").click()
    press(page, "Save revision")
    expect(page.get_by_text("Saved as revision 2.")).to_be_visible()
    with stepped.ladle("author") as ladle:
        steps = ladle.extracts.get("by_steps")["revision"]["steps"]
    assert [(each["step"], each.get("off", False)) for each in steps] == [
        ("filter", False),
        ("share_of_total", True),
        ("group", False),
    ]
    assert steps[2]["columns"] == [{"name": "rows", "as": "sum(litres)"}]


def test_a_lookup_is_added_edited_in_place_and_looked_back_at(page, stepped):
    let_in(page, "author")
    page.goto("/lookups")
    press(page, "Add lookup")
    page.get_by_label("Name", exact=True).fill("browsed_codes")
    page.get_by_label("Table", exact=True).fill("code\tname\nN1\tNorth\nS1\tSouth\n")
    press(page, "Save")
    expect(page.get_by_role("heading", name="browsed_codes")).to_be_visible()
    expect(page.get_by_text("2 rows of code (text), name (text)")).to_be_visible()
    page.get_by_label("name, N1").fill("Far North")
    press(page, "Add row")
    page.get_by_label("code, new row 1").fill("E1")
    page.get_by_label("name, new row 1").fill("East")
    page.get_by_role("row", name="S1").get_by_role("button", name="Remove").click()
    page.get_by_label("What this save changes").fill("as agreed")
    assert violations(page) == []
    press(page, "Save 3 changes")
    expect(page.get_by_text("Saved as revision 2.")).to_be_visible()
    press(page, "Show: Who saved it")
    expect(page.get_by_label("What revision 2 changed")).to_contain_text("+  E1  East")
    with stepped.ladle("author") as ladle:
        assert ladle.lookups.rows("browsed_codes")["rows"] == [["N1", "Far North"], ["E1", "East"]]
    press(page, "Archive")
    page.get_by_role("dialog").get_by_role("button", name="Archive").click()
    expect(page.get_by_text("(archived)")).to_be_visible()
    expect(page.get_by_role("dialog")).to_have_count(0)
    press(page, "Restore")
    expect(page.get_by_text("(archived)")).to_have_count(0)


def test_a_reader_sees_rows_and_changes_none(page, stepped):
    let_in(page, "reader")
    page.goto("/lookups/browsed_zones")
    expect(page.get_by_text("the north")).to_be_visible()
    expect(page.get_by_role("button", name="Add row")).to_have_count(0)
    expect(page.get_by_role("button", name="Archive")).to_have_count(0)
