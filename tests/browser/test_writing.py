"""Writing an extract in a real browser: completion, diagnostics, preview, parameters, dry run, two authors, revisions."""

from __future__ import annotations

import pytest

from tests.conftest import until

from .conftest import expect, foresee, let_in, sign_in
from .test_console import violations


@pytest.fixture(scope="module")
def draft(service):
    """An extract to be edited, on a source whose catalogue is stored; and another source that has what it lacks."""
    with service.ladle("author") as ladle:
        for name in ("metering", "works"):
            ladle.sources.run_query(name, "live", "catalogue")
        ladle.extracts.add(
            "to_edit", "metering", "select name from districts", notes="**Weekly**, for the *field* <b>crews</b>"
        )
    return service


def opened(page, name="to_edit"):
    page.goto(f"/extracts/{name}")
    editor = page.get_by_role("textbox", name="Statement", exact=True)
    expect(page.get_by_text("No errors")).to_be_visible()
    return editor


def write(page, editor, text):
    editor.click()
    page.keyboard.press("Control+a")
    page.keyboard.insert_text(text)


def test_from_first_letter_to_saved_revision(page, draft):
    sign_in(page, "author")
    editor = opened(page)
    assert page.locator(".notes strong").inner_text() == "Weekly"
    assert page.locator(".notes b").count() == 0, "raw HTML in notes is not rendered"
    write(page, editor, "select d. from districts d join readings r using (district_id)")
    for _ in range(len(" from districts d join readings r using (district_id)")):
        page.keyboard.press("ArrowLeft")
    page.keyboard.type("z")
    popup = page.get_by_role("listbox")
    expect(popup.get_by_role("option")).to_have_count(1)
    expect(popup).to_contain_text("text, districts")
    page.wait_for_timeout(150)  # the popup takes no key that was on its way before it showed
    page.keyboard.press("Enter")
    expect(editor).to_contain_text("select d.zone from districts d")
    write(page, editor, "select d.nmae from districts d where d.zone = :zone;\n-- From works\nselect 1 as one from orders")
    diagnostics = page.get_by_role("list", name="Diagnostics")
    expect(diagnostics).to_contain_text(":zone' is not declared. Declare 'zone'.")
    expect(diagnostics).to_contain_text("It is not in this source, but in source works.")
    page.get_by_role("button", name="Declare :zone").click()
    expect(diagnostics).to_contain_text("Did you mean d.name?")
    diagnostics.get_by_role("button").first.click()
    page.keyboard.type("name")
    expect(editor).to_contain_text("select d.name from districts d")
    write(
        page,
        editor,
        "select d.name from districts d where d.zone = :zone and :since is not null order by 1;\n-- All\nselect count(*) as n from districts",
    )
    page.get_by_role("button", name="Declare :since").click()
    page.get_by_role("combobox", name="Type of since").click()
    page.get_by_title("date", exact=True).click()
    page.get_by_label("Default of since").fill("start of last month")
    page.get_by_label("Default of since").press("Enter")
    page.get_by_label("zone text", exact=False).first.fill("North")
    expect(page.get_by_text("No errors in 2 statements")).to_be_visible()
    editor.click()
    page.keyboard.press("Control+Home")
    page.keyboard.press("Control+Enter")
    expect(page.get_by_role("grid")).to_contain_text("Alder Moor")
    page.get_by_role("button", name="Count all rows").click()
    expect(page.get_by_text("1 row in all")).to_be_visible()
    editor.click()
    page.keyboard.press("Control+End")
    page.keyboard.press("Control+Enter")
    expect(page.get_by_text("All: first row after")).to_be_visible()
    expect(page.get_by_role("grid")).to_contain_text("3")
    assert violations(page) == []
    page.reload()
    expect(page.get_by_text("Your draft is kept")).to_be_visible()
    expect(editor).to_contain_text(":since is not null")
    page.get_by_role("button", name="Format").click()
    expect(editor).to_contain_text("  d.name")
    page.get_by_label("zone text", exact=False).first.fill("North")
    page.get_by_label("What this save changes").fill("by zone")
    editor.click()
    page.keyboard.press("Control+s")
    expect(page.get_by_text("Saved as revision 2.")).to_be_visible()
    page.get_by_role("button", name="Dry run").click()
    told = page.get_by_role("dialog")
    expect(told).to_contain_text("to_edit-")
    expect(told).to_contain_text("/* :zone */ 'North'::text /* : */")
    told.get_by_role("tab", name="Command").click()
    expect(told.get_by_label("The command that runs it")).to_contain_text("ladle run start to_edit --env live --set zone=North")
    assert violations(page) == []
    told.get_by_role("button", name="Close").last.click()
    page.get_by_role("button", name="Show: Who saved it").click()
    expect(page.get_by_role("region", name="The statement")).to_contain_text("select name from districts")
    expect(page.get_by_text("parameters: zone")).to_be_visible()
    assert violations(page) == []


def test_who_may_not_write_is_told_what_was_decided_and_offered_no_change(page, draft):
    let_in(page, "reader")
    page.goto("/extracts/to_edit")
    expect(page.get_by_role("region", name="Where it goes")).to_contain_text("The folders are shown to authors.")
    expect(page.get_by_role("region", name="What it reads")).to_contain_text("metering (postgresql)")
    page.get_by_role("button", name="Show: What became of it").click()
    expect(page.get_by_role("button", name="Close: What became of it")).to_be_visible()
    assert page.get_by_role("button", name="Change", exact=False).count() == 0


def test_two_authors_do_not_overwrite_each_other(page, draft):
    with draft.ladle("author") as ladle:
        ladle.extracts.add("both_edit", "metering", "select name\nfrom districts\norder by name")
    sign_in(page, "author")
    editor = opened(page, "both_edit")
    write(page, editor, "select name\nfrom districts\nwhere zone = 'North'\norder by name")
    with draft.ladle() as ladle:
        ladle.extracts.save(
            "both_edit", statement="select name, zone\nfrom districts\norder by name", change_note="the zone too"
        )
    editor.click()
    page.keyboard.press("Control+s")
    conflict = page.get_by_role("alert")
    expect(conflict).to_contain_text("administrator saved revision 2")
    expect(conflict).to_contain_text("the zone too")
    expect(conflict.get_by_role("row", name="where zone = 'North'")).to_be_visible()
    expect(conflict.get_by_role("row", name="select name, zone")).to_be_visible()
    foresee(page, "status of 412")
    assert violations(page) == []
    expect(page.get_by_role("button", name="Save revision")).to_be_disabled()
    conflict.get_by_role("button", name="Go on with mine").click()
    page.get_by_role("button", name="Save revision").click()
    expect(page.get_by_text("Saved as revision 3.")).to_be_visible()
    with draft.ladle() as ladle:
        assert "where zone = 'North'" in ladle.extracts.get("both_edit")["revision"]["statement"]


def test_values_names_and_copies(page, draft):
    sign_in(page, "author")
    page.get_by_role("link", name="Values").click()
    page.get_by_role("button", name="Add value").click()
    form = page.get_by_role("dialog")
    form.get_by_label("Name").fill("burst_zones")
    form.get_by_label("In live").fill("North\nSouth")
    form.get_by_label("In rehearsal").fill("Coast")
    form.get_by_role("button", name="Save").click()
    expect(page.get_by_role("row", name="burst_zones")).to_contain_text("North, South")
    assert violations(page) == []
    page.get_by_role("button", name="burst_zones", exact=True).click()
    page.get_by_role("dialog").get_by_label("In rehearsal").fill("")
    page.get_by_role("dialog").get_by_role("button", name="Save").click()
    expect(page.get_by_role("row", name="burst_zones")).to_contain_text("none")
    page.goto("/extracts/to_edit")
    page.get_by_role("button", name="Copy", exact=True).click()
    page.get_by_role("dialog").get_by_label("Name").fill("edited_copy")
    page.get_by_role("dialog").get_by_role("button", name="Copy").click()
    expect(page.get_by_role("heading", name="edited_copy")).to_be_visible()
    page.get_by_role("button", name="Rename or move").click()
    form = page.get_by_role("dialog")
    form.get_by_label("Name").fill("edited_twin")
    form.get_by_label("Folder").fill("repairs/weekly")
    form.get_by_label("Tags").fill("weekly,")
    form.get_by_role("button", name="Save").click()
    expect(page.get_by_role("heading", name="edited_twin")).to_be_visible()
    expect(page.get_by_text("earlier edited_copy")).to_be_visible()
    page.goto("/extracts/edited_copy")
    page.wait_for_url("**/extracts/edited_twin")
    with draft.ladle() as ladle:
        assert until(lambda: ladle.extracts.get("edited_copy")["tags"]) == ["weekly"]


def test_a_phrase_shows_what_it_means_and_a_wrong_one_what_is_near(page, draft):
    with draft.ladle("author") as ladle:
        choices = {"source": "works", "statement": "select district_id, name from districts order by 1"}
        ladle.extracts.add(
            "with_phrase", "metering", "select :since as since, :span_from as a, :span_to as b, name from districts where district_id = :district",
            parameters=[{"name": "since", "type": "date"}, {"name": "span", "type": "period", "default": "last month"},
                        {"name": "district", "type": "integer", "choices": choices}],
        )  # fmt: skip
    let_in(page, "runner")
    page.goto("/extracts/with_phrase")
    since = page.get_by_label("since date", exact=False)
    since.fill("stat of last month")
    expect(page.get_by_text("Did you mean 'start of last month'?")).to_be_visible()
    page.get_by_label("Data date").fill("2026-11-24")
    since.fill("start of last month")
    expect(page.get_by_text("2026-10-01 for 2026-11-24")).to_be_visible()
    foresee(page, "status of 400")
    page.get_by_label("district integer", exact=False).click()
    page.get_by_title("Birch Fen (2)").click()
    assert violations(page) == []
    page.get_by_role("button", name="Run now").click()
    expect(page.get_by_text("Finished", exact=True)).to_be_visible()
    expect(page.get_by_text("2026-10-31").first).to_be_visible()


def test_a_statement_that_was_out_gets_its_parameters_back_by_one_press(page, draft):
    with draft.ladle("author") as ladle:
        ladle.extracts.add(
            "was_out", "metering", "select name from districts where zone = :zone", parameters=[{"name": "zone"}]
        )
        out = ladle.runs.dry_run("was_out", environment="live", values={"zone": "North"})["statements"][0]["filled_in"]
    sign_in(page, "author")
    editor = opened(page, "was_out")
    write(page, editor, out.replace("select name", "select name, zone"))
    page.get_by_role("button", name="Restore parameters").click()
    expect(editor).to_contain_text("select name, zone from districts where zone = :zone")
    expect(page.get_by_role("button", name="Restore parameters")).to_have_count(0)
    expect(page.get_by_text("No errors (checked by the database)")).to_be_visible()
