"""What is one's own, and what is set up once: people, tokens, sign-ins, environments, calendars, channels."""

from __future__ import annotations

import re

import psycopg
import pytest

from patient_ladle.client import CallFailed, Ladle
from tests.conftest import PASSWORD, until

from .conftest import expect, foresee, let_in, offered, sign_in

OTHER = "another-fine-word-16"


def of_their_own(service, name, role):
    """A person whom no other test knows."""
    with service.ladle() as ladle:
        ladle.people.add(name, PASSWORD, role)


def row(page, name):
    return page.get_by_role("row").filter(has=page.get_by_text(name, exact=True))


def test_a_person_comes_signs_in_changes_the_password_and_goes(page, service, browser):
    sign_in(page)
    page.get_by_role("link", name="People", exact=True).click()
    page.get_by_role("button", name="Add person").click()
    form = page.get_by_role("dialog", name="Add person")
    form.get_by_role("button", name="Add", exact=True).click()
    expect(form.get_by_text("A name is needed.")).to_be_visible()
    form.get_by_label("Name").fill("petra")
    form.get_by_label("Password", exact=True).fill("short")
    form.get_by_role("button", name="Add", exact=True).click()
    expect(form.get_by_text("At least 10 characters.")).to_be_visible()
    form.get_by_label("Password", exact=True).fill(PASSWORD)
    form.get_by_role("button", name="Add", exact=True).click()
    expect(row(page, "petra")).to_contain_text("never")

    context = browser.new_context(base_url=service.url, user_agent="Mozilla/5.0 (X11; Linux) Gecko/20100101 Firefox/128.0")
    theirs = context.new_page()
    sign_in(theirs, "petra")
    theirs.get_by_role("link", name="petra, reader").click()
    expect(row(theirs, "Firefox 128 on Linux (this one)")).to_have_count(1)
    expect(theirs.get_by_role("link", name="People", exact=True)).to_have_count(0)
    for label, given in (("Your password", PASSWORD), ("The new one", OTHER), ("The new one once more", OTHER + "x")):
        theirs.get_by_label(label, exact=True).fill(given)
    theirs.get_by_role("button", name="Change password").click()
    expect(theirs.get_by_text("This differs from the one above.")).to_be_visible()
    theirs.get_by_label("The new one once more").fill(OTHER)
    theirs.get_by_role("button", name="Change password").click()
    expect(theirs.get_by_text("Changed. Every other sign-in and token of yours has ended.")).to_be_visible()
    Ladle.sign_in(service.url, "petra", OTHER)[0].close()

    page.reload()
    page.get_by_role("button", name="petra", exact=True).click()
    form = page.get_by_role("dialog", name="Edit petra")
    form.get_by_role("switch", name="May sign in").click()
    form.get_by_role("button", name="Save").click()
    expect(row(page, "petra").get_by_text("no", exact=True)).to_be_visible()
    theirs.goto("/account")
    expect(theirs.get_by_label("Password")).to_be_visible()  # the sign-in
    context.close()


def test_a_group_gives_its_members_a_role_until_it_is_removed(page, service):
    of_their_own(service, "ottilie", "runner")
    let_in(page)
    page.goto("/people")
    page.get_by_role("button", name="Add group").click()
    form = page.get_by_role("dialog", name="Add group")
    form.get_by_role("button", name="Add", exact=True).click()
    expect(form.get_by_text("A name is needed.")).to_be_visible()
    form.get_by_label("Name").fill("drainers")
    form.get_by_role("combobox", name="Role").click()
    page.keyboard.type("author")
    page.get_by_text("author: writes", exact=False).click()
    form.get_by_role("combobox", name="Members").click()
    page.keyboard.type("ottilie")
    offered(page, "ottilie")
    page.keyboard.press("Enter")
    page.keyboard.press("Escape")
    expect(form).to_be_visible()
    form.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("row", name="drainers author ottilie")).to_be_visible()
    expect(page.get_by_role("row", name="ottilie author alone runner drainers")).to_be_visible()
    page.get_by_role("button", name="Remove group drainers").click()
    page.get_by_role("dialog").get_by_role("button", name="Remove", exact=True).click()
    expect(page.get_by_role("button", name="Remove group drainers")).to_have_count(0)
    expect(row(page, "ottilie")).to_contain_text("runner")
    expect(row(page, "ottilie")).not_to_contain_text("alone")


def test_a_browser_that_is_signed_out_elsewhere_is_told_and_nobody_else_can_do_it(page, service, browser):
    of_their_own(service, "visitor", "runner")
    context = browser.new_context(base_url=service.url)
    other = context.new_page()
    sign_in(other, "visitor")
    sign_in(page, "visitor")
    with service.ladle("author") as stranger, service.ladle("visitor") as own:
        number = max(each["id"] for each in own.people.sessions())
        with pytest.raises(CallFailed, match="you have no sign-in"):
            stranger.people.end_session(number)
        with psycopg.connect(service.database_url(), autocommit=True) as ledger:
            ledger.execute("update people_session set seen_at = seen_at - interval '1 hour' where id = %s", [number])
        before = {each["id"]: each["seen_at"] for each in own.people.sessions()}[number]
        for used in (page, other):
            used.goto("/runs")
        until(lambda: {each["id"]: each["seen_at"] for each in own.people.sessions()}[number] > before)
    page.goto("/account")
    page.get_by_role("button", name=re.compile("^Sign out Chrome")).first.click()
    page.get_by_role("dialog").get_by_role("button", name="Sign out").click()
    expect(page.get_by_role("button", name=re.compile("^Sign out Chrome"))).to_have_count(0)
    other.goto("/runs")
    expect(other.get_by_label("Password")).to_be_visible()
    context.close()
    listed = service.command("user", "sessions", name="visitor").stdout
    assert listed.count("127.0.0.1") == 1
    assert service.command("user", "end-session", "--all", name="visitor").returncode == 0
    foresee(page, "status of 401", "status of 403")
    page.goto("/runs")
    expect(page.get_by_label("Password")).to_be_visible()


def test_a_token_is_shown_once_works_and_is_revoked(page, service):
    of_their_own(service, "tester", "author")
    let_in(page, "tester")
    page.goto("/account")
    page.get_by_role("button", name="Make a token").click()
    form = page.get_by_role("dialog", name="Make a token")
    form.get_by_label("What it is for").fill("night-job")
    form.get_by_role("button", name="Make", exact=True).click()
    secret = page.locator("code.secret").inner_text()
    with Ladle(service.url, secret) as ladle:
        assert ladle.people.me() == {"name": "tester", "role": "author", "zone": "UTC"}
        page.reload()
        page.get_by_role("button", name=re.compile("Revoke night-job")).click()
        expect(page.locator("code.secret")).to_have_count(0)
        page.get_by_role("dialog").get_by_role("button", name="Revoke").click()
        expect(page.get_by_text("revoked", exact=True)).to_be_visible()
        with pytest.raises(CallFailed, match="revoked"):
            ladle.people.me()


def test_what_is_set_up_once_is_added_changed_and_removed_where_nothing_uses_it(page, service):
    sign_in(page)
    page.get_by_role("link", name="Environments", exact=True).click()
    expect(row(page, "rehearsal")).to_contain_text("metering")
    page.get_by_role("button", name="Add environment").click()
    form = page.get_by_role("dialog")
    form.get_by_label("Name").fill("training")
    form.get_by_label("What it is for").fill("for courses")
    form.get_by_role("button", name="Add", exact=True).click()
    expect(row(page, "training")).to_contain_text("for courses")
    foresee(page, "status of 409")
    for name in ("live", "training"):
        page.get_by_role("button", name=f"Remove {name}").click()
        page.get_by_role("dialog").get_by_role("button", name="Remove").click()
    expect(row(page, "training")).to_have_count(0)
    expect(row(page, "live")).to_have_count(1)
    refused = service.command("environment", "remove", "live", "--yes")
    assert (refused.returncode, "environment 'live' is in use: " in refused.stderr) == (2, True), refused.stderr

    page.get_by_role("link", name="Calendars", exact=True).click()
    page.get_by_role("button", name="Add calendar").click()
    form = page.get_by_role("dialog")
    form.get_by_label("Name").fill("works_days")
    form.get_by_role("textbox", name="Country").fill("xx")
    foresee(page, "status of 400")
    form.get_by_role("button", name="Add", exact=True).click()
    expect(form.get_by_role("alert")).to_contain_text("There is no country 'XX'")
    form.get_by_role("textbox", name="Country").fill("gb")
    form.get_by_label("Region").fill("ENG")
    form.get_by_role("button", name="Add", exact=True).click()
    expect(row(page, "works_days")).to_contain_text("GB ENG")
    with service.ladle("author") as ladle:
        ladle.schedules.add("minds_days", "slow", "live", "daily at 05:00", calendar="works_days", zone="UTC")
        page.reload()
        expect(page.get_by_role("link", name="minds_days")).to_be_visible()
        expect(page.get_by_role("button", name="Remove works_days")).to_have_count(0)
        ladle.schedules.remove("minds_days")

    page.get_by_role("link", name="Channels", exact=True).click()
    page.get_by_role("button", name="Add channel").click()
    form = page.get_by_role("main")
    form.get_by_label("Name").fill("on_duty")
    form.get_by_label("host", exact=True).fill("127.0.0.1")
    form.get_by_label("sender", exact=True).fill("ladle@fennmoor.example")
    form.get_by_label("to", exact=True).fill("duty@fennmoor.example")
    form.get_by_label("security", exact=True).fill("none")
    form.get_by_role("button", name="Add", exact=True).click()
    expect(row(page, "on_duty")).to_contain_text("duty@fennmoor.example")
    page.get_by_role("button", name="Send test on on_duty").click()
    expect(page.get_by_text("A test is on its way to on_duty.")).to_be_visible()
    page.get_by_role("link", name="on_duty", exact=True).click()
    form.get_by_role("switch", name="In use").click()
    form.get_by_role("button", name="Save").click()
    expect(row(page, "on_duty").get_by_text("no", exact=True)).to_have_count(2)
    page.get_by_role("button", name="Remove on_duty").click()
    page.get_by_role("dialog").get_by_role("button", name="Remove").click()
    expect(row(page, "on_duty")).to_have_count(0)


def test_a_table_and_a_text_become_files_without_being_saved(page, service):
    with service.ladle("author") as ladle:
        ladle.sources.run_query("metering", "live", "catalogue")
    let_in(page, "author")
    page.goto("/sources/metering?environment=live&table=districts")
    page.get_by_role("button", name="All as a file").click()
    page.wait_for_url("**/runs/*")
    expect(page.get_by_role("link", name=re.compile(r"districts-.*\.csv")).first).to_be_visible()
    page.goto("/new-extract/tried-once")
    page.get_by_role("combobox", name="Source").click()
    page.get_by_title("metering (postgresql)").click()
    page.get_by_role("textbox", name="Statement", exact=True).fill("select name from districts order by name")
    page.get_by_role("button", name="Run without saving").click()
    page.wait_for_url("**/runs/*")
    page.get_by_role("link", name=re.compile(r"^unsaved-[0-9a-f]+$")).first.click()
    expect(page.get_by_text("It was run without being saved, and is not in the repository.")).to_be_visible()
    page.get_by_role("button", name="Keep it…").click()
    form = page.get_by_role("dialog")
    form.get_by_label("Name").fill("kept_from_a_try")
    form.get_by_role("button", name="Save").click()
    page.wait_for_url("**/extracts/kept_from_a_try")
    expect(page.get_by_text("It was run without being saved")).to_have_count(0)
