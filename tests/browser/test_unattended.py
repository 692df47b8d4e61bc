"""The night in the console: guards set, a delivery held and released, workers drained, alerts seen."""

from __future__ import annotations

import re

from tests.command import PATIENCE
from tests.conftest import until

from .conftest import expect, foresee, let_in, sign_in
from .test_console import violations


def test_a_guard_is_set_holds_a_delivery_back_and_an_author_releases_it(page, service):
    with service.ladle("author") as ladle:
        ladle.extracts.add(
            "watched", "metering", "select name, zone from districts", deliver_into="watched", file_name="{extract}"
        )
    let_in(page, "author")
    page.goto("/extracts/watched")
    page.get_by_role("button", name="Change: What must hold").click()
    page.get_by_role("button", name="Add guard").click()
    page.get_by_label("at least, guard 1").fill("1000")
    page.get_by_role("button", name="Add guard").click()
    page.get_by_label("Guard 2", exact=True).click()
    page.get_by_title("no null in").click()
    page.get_by_label("Columns, guard 2").fill("name, zone")
    assert violations(page) == []
    words = "At least 1,000 rows, else held; no null in name and zone, else held"
    expect(page.get_by_role("region", name="What must hold")).to_contain_text(words)
    page.get_by_role("button", name="Save revision").click()
    expect(page.get_by_text("Saved as revision 2.")).to_be_visible()
    with service.ladle("author") as ladle:
        assert ladle.extracts.get("watched")["revision"]["guards"] == [
            {"guard": "rows", "at_least": 1000, "then": "hold"},
            {"guard": "not_null", "columns": ["name", "zone"], "then": "hold"},
        ]
        run = ladle.runs.wait(ladle.runs.start("watched")["id"], PATIENCE)["id"]
    page.get_by_role("link", name="Last night").click()
    need = page.get_by_role("listitem").filter(has_text="watched in live")
    expect(need).to_contain_text("Held")
    expect(need).to_contain_text("Release its delivery, or reject it.")
    need.get_by_role("link", name="watched").click()
    expect(page.get_by_text("Held: stored and proven, not delivered.")).to_be_visible()
    expect(page.get_by_text("at least 1,000 rows: there are").first).to_be_visible()
    expect(page.get_by_text("not delivered, kept in the result store")).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="Release").click()
    form = page.get_by_role("dialog", name=f"Release run {run}")
    form.get_by_label("Note for the record").fill("the meter swap explains it")
    form.get_by_role("button", name="Deliver the files").click()
    expect(page.get_by_text("Released by author: the meter swap explains it.")).to_be_visible()
    expect(page.get_by_text("watched.csv", exact=False).first).to_be_visible()
    delivered = service.data / "deliveries/watched/watched.csv"
    until(delivered.exists)
    assert delivered.read_text().startswith("name,zone\n")
    page.goto("/alerts")
    expect(page.get_by_text(f"watched in live: run {run} is held")).to_be_visible()
    expect(page.get_by_text(f"watched in live: run {run} is released")).to_be_visible()
    expect(page.get_by_text("Nothing is wrong now.").or_(page.get_by_label("Open problems"))).to_be_visible()
    assert violations(page) == []
    page.get_by_role("link", name="channels", exact=True).click()
    expect(page.get_by_text("Alerts stand in the console only, and go nowhere yet.")).to_be_visible()


def test_a_worker_is_drained_and_let_work_again(page):
    sign_in(page)
    page.get_by_role("link", name="Workers").click()
    page.get_by_role("button", name="Drain ").first.click()
    expect(page.get_by_text("drained", exact=True)).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="Let it work ").first.click()
    expect(page.get_by_text("drained", exact=True)).to_have_count(0)


def test_several_schedules_are_paused_with_one_question_and_undone(page, service):
    with service.ladle("author") as ladle:
        for name in ("lull_one", "lull_two"):
            ladle.schedules.add(name, "district_use", "live", "daily at 05:00", zone="UTC")
    let_in(page, "author")
    page.goto("/schedules?search=lull")
    for name in ("lull_one", "lull_two"):
        page.get_by_role("checkbox", name=f"Choose {name}").check()
    bar = page.get_by_role("group", name="With those chosen")
    expect(bar).to_contain_text("2 schedules chosen")
    bar.get_by_role("button", name="Pause…").click()
    form = page.get_by_role("dialog", name="Pause 2 schedules")
    form.get_by_label("Reason").fill("the meters are swapped")
    form.get_by_role("button", name="Pause", exact=True).click()
    expect(page.get_by_text("paused by author: the meters are swapped")).to_have_count(2)
    said = page.get_by_role("status").filter(has_text="2 schedules paused.")
    said.get_by_role("button", name="Undo").click()
    expect(page.get_by_text("paused by author: the meters are swapped")).to_have_count(0)
    assert violations(page) == []
    with service.ladle("author") as ladle:
        for name in ("lull_one", "lull_two"):
            assert ladle.schedules.get(name)["paused_at"] is None
            ladle.schedules.remove(name)


def test_a_schedule_is_looked_at_by_its_month_and_run_now(page, service):
    with service.ladle("author") as ladle:
        ladle.schedules.add("seen_whole", "district_use", "live", "daily at 05:00", zone="UTC", finish_by="07:00")
    let_in(page, "author")
    page.goto("/schedules?search=seen_whole")
    page.get_by_role("link", name="seen_whole", exact=True).click()
    page.wait_for_url("**/schedules/seen_whole")
    expect(page.get_by_text("when it has not finished by 07:00")).to_be_visible()
    expect(page.get_by_text("No due time has come yet.")).to_be_visible()
    page.get_by_role("button", name="The month after").click()
    expect(page.get_by_text("to come", exact=True).first).to_be_visible()
    page.wait_for_url("**/schedules/seen_whole?month=*")
    page.get_by_role("button", name="This month").click()
    page.get_by_role("button", name="Run now").click()
    page.get_by_role("dialog").get_by_role("button", name="Run now").click()
    page.wait_for_url("**/runs/*")
    page.go_back()
    expect(page.get_by_role("cell", name="started by author")).to_be_visible()
    expect(page.locator(".month").get_by_text(re.compile("finished|running|queued")).first).to_be_visible()
    page.get_by_role("button", name="Pause", exact=True).click()
    form = page.get_by_role("dialog")
    form.get_by_label("Reason").fill("the meters are swapped")
    form.get_by_role("button", name="Pause").click()
    expect(page.get_by_text("Paused by author: the meters are swapped. Due times are skipped.")).to_be_visible()
    page.get_by_role("button", name="Resume").click()
    expect(page.get_by_text("Paused by author")).to_have_count(0)
    foresee(page, "status of 404")  # its page may ask once more between the removal and the answer to it
    page.get_by_role("button", name="Remove").click()
    page.get_by_role("dialog").get_by_role("button", name="Remove").click()
    page.wait_for_url("**/schedules")
    expect(page.get_by_role("link", name="seen_whole")).to_have_count(0)
