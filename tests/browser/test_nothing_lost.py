"""Nothing typed is lost: drafts, dialogs, faults, a service that is away, a console that was renewed."""

from __future__ import annotations

import re

import pytest

from tests.command import PATIENCE
from tests.conftest import PASSWORD, until

from .conftest import expect, foresee, let_in, sign_in
from .test_console import violations
from .test_writing import write


@pytest.fixture(scope="module")
def drafted(service):
    with service.ladle("author") as ladle:
        ladle.extracts.add("typed_in", "metering", "select name from districts")
    return service


def editor_of(page, name="typed_in"):
    page.goto(f"/extracts/{name}")
    found = page.get_by_role("textbox", name="Statement", exact=True)
    expect(found).to_be_visible()
    return found


def another(browser, service, name):
    """Another machine, on which somebody has signed in."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=service.url)
    context.set_default_timeout(PATIENCE * 1000)
    made = context.new_page()
    sign_in(made, name)
    return made


def kept(service, name="typed_in"):
    with service.ladle("author") as ladle:
        return (ladle.extracts.draft(name)["content"] or {}).get("statement")


def test_a_draft_goes_with_its_author_and_with_nobody_else(page, browser, drafted):
    sign_in(page, "author")
    write(page, editor_of(page), "select name, zone from districts")
    page.get_by_role("button", name="Sign out").click()  # at once: what is not kept yet is sent first
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()
    assert kept(drafted) == "select name, zone from districts"
    sign_in(page, "administrator")
    expect(editor_of(page)).to_have_text("select name from districts")
    other = another(browser, drafted, "author")
    editor = editor_of(other)
    expect(editor).to_have_text("select name, zone from districts")
    expect(other.get_by_text("Your draft is kept; only you see it.")).to_be_visible()
    other.get_by_role("button", name="Undo changes").click()
    until(lambda: kept(drafted) is None)
    other.context.close()
    foresee(page, "status of 401")


def test_of_two_windows_of_one_person_neither_overwrites_the_other(page, browser, drafted):
    sign_in(page, "author")
    editor, other = editor_of(page), another(browser, drafted, "author")
    theirs = editor_of(other)
    write(page, editor, "select 1 as here")
    until(lambda: kept(drafted) == "select 1 as here")
    write(other, theirs, "select 2 as there")
    asked = other.get_by_role("alert").filter(has_text="You changed this draft in another window")
    expect(asked).to_be_visible()
    assert kept(drafted) == "select 1 as here"
    assert violations(other) == []
    asked.get_by_role("button", name="Keep this one").click()
    until(lambda: kept(drafted) == "select 2 as there")
    page.evaluate("window.dispatchEvent(new Event('focus'))")
    expect(editor).to_have_text("select 2 as there")  # nothing was unsent here: it goes on from the other
    write(page, editor, "select 3 as here")
    until(lambda: kept(drafted) == "select 3 as here")
    write(other, theirs, "select 4 as there")
    asked.get_by_role("button", name="Take that one").click()
    expect(theirs).to_have_text("select 3 as here")
    with drafted.ladle("author") as ladle:
        ladle.extracts.drop_draft("typed_in")
    other.context.close()


def test_a_service_that_is_away_is_said_once_and_work_goes_on_when_it_is_back(page, drafted):
    sign_in(page, "author")
    editor = editor_of(page)
    page.route("**/api/**", lambda route: route.abort())
    write(page, editor, "select 'while it was away' as a")
    bar = page.get_by_role("status").filter(has_text="The service does not answer.")
    expect(bar).to_have_count(1)
    expect(page.get_by_text("Your draft is not kept yet.")).to_be_visible()
    assert page.get_by_role("alert").count() == 0
    page.unroute("**/api/**")
    expect(bar).to_have_count(0)
    until(lambda: kept(drafted) == "select 'while it was away' as a")
    page.get_by_role("button", name="Undo changes").click()
    until(lambda: kept(drafted) is None)
    foresee(page, "ERR_FAILED")


def type_unsent(page, editor, text):
    """Typed while the service is away; when it is there again the session has ended."""
    page.route("**/api/**", lambda route: route.abort())
    write(page, editor, text)
    expect(page.get_by_role("status").filter(has_text="The service does not answer.")).to_have_count(1)
    page.context.clear_cookies(name="ladle_session")
    page.unroute("**/api/**")
    foresee(page, "ERR_FAILED", "status of 401", "status of 403")


@pytest.mark.parametrize("name", ["reader", "runner"])
def test_whoever_signs_in_next_on_a_page_sees_nothing_of_the_one_before(page, drafted, name):
    sign_in(page, "author")
    editor = editor_of(page)
    type_unsent(page, editor, "select 'of the author alone' as a")
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="typed_in")).to_be_visible()
    expect(page.get_by_role("button", name="Sign out")).to_be_visible()
    page.wait_for_load_state("networkidle")
    assert not [words for words in ("of the author alone", "from districts") if words in page.content()]


def test_the_same_person_who_signs_in_again_has_what_was_typed(page, drafted):
    sign_in(page, "author")
    editor = editor_of(page)
    type_unsent(page, editor, "select 'not sent yet' as a")
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()
    page.get_by_label("Name").fill("author")
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_role("textbox", name="Statement", exact=True)).to_contain_text("not sent yet")
    until(lambda: kept(drafted) == "select 'not sent yet' as a")
    page.get_by_role("button", name="Undo changes").click()
    until(lambda: kept(drafted) is None)


def test_a_page_whose_file_is_gone_is_loaded_anew(page, drafted):
    sign_in(page, "author")
    page.route("**/assets/ValuesPage*.js", lambda route: route.abort())
    page.route("**/api/v1/me", lambda route: route.abort())
    page.get_by_role("link", name="Values").click()
    expect(page.get_by_text("This page is being loaded anew")).to_be_visible()
    expect(page.get_by_role("link", name="Runs")).to_be_visible()
    page.unroute("**/assets/ValuesPage*.js")
    page.unroute("**/api/v1/me")
    expect(page.get_by_role("heading", name="Values", exact=True)).to_be_visible()
    foresee(page, "ERR_FAILED", "dynamically imported")


def test_a_fault_of_a_page_leaves_the_rest_and_stands_in_the_services_log(page, drafted):
    sign_in(page, "author")
    page.route("**/api/v1/values", lambda route: route.fulfill(json=[{"name": "odd"}]))
    page.get_by_role("link", name="Values").click()
    told = page.get_by_role("alert").filter(has_text="This page cannot be shown")
    expect(told).to_be_visible()
    expect(page.get_by_role("link", name="Runs")).to_be_visible()
    assert violations(page) == []
    assert until(lambda: [line for line in drafted.log if "TypeError" in line and "on /values, seen by author" in line])
    page.unroute("**/api/v1/values")
    told.get_by_role("button", name="Show it again").click()
    expect(page.get_by_role("heading", name="Values", exact=True)).to_be_visible()
    foresee(page, "TypeError")


def test_a_dialog_loses_nothing_and_gives_the_keyboard_back(page, drafted):
    let_in(page, "author")
    page.goto("/values")
    add = page.get_by_role("button", name="Add value").first
    add.click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name").fill("typed_half")
    page.keyboard.press("Escape")
    expect(dialog).to_have_count(0)
    expect(add).to_be_focused()
    page.keyboard.press("Enter")
    expect(dialog.get_by_text("As you left it.")).to_be_visible()
    expect(dialog.get_by_label("Name")).to_have_value("typed_half")
    dialog.get_by_role("button", name="Begin anew").click()
    expect(dialog.get_by_label("Name")).to_have_value("")
    page.keyboard.press("Escape")


def test_a_form_on_a_page_of_its_own_loses_nothing_either(page, drafted):
    let_in(page, "author")
    page.goto("/new-schedule?extract=typed_in")
    form = page.get_by_role("main")
    form.get_by_label("Name").fill("typed-daily")
    form.get_by_label("Time zone").fill("Europe/Lon")
    expect(form.get_by_role("alert").first).to_be_visible()
    foresee(page, "status of 400")
    page.get_by_role("link", name="Runs", exact=True).click()
    expect(page.get_by_role("heading", name="Runs", exact=True)).to_be_visible()
    page.go_back()
    expect(form.get_by_text("As you left it.")).to_be_visible()
    expect(form.get_by_label("Name")).to_have_value("typed-daily")
    expect(form.get_by_label("Time zone")).to_have_value("Europe/Lon")
    form.get_by_label("Time zone").fill("UTC")
    form.get_by_label("Name").fill("Not a Name")
    form.get_by_role("button", name="Save schedule").click()
    refused = form.get_by_role("alert").filter(has_text="cannot be the name").first
    expect(refused).to_be_in_viewport()
    form.get_by_role("button", name="Begin anew").click()
    expect(form.get_by_label("Name")).to_have_value("")
    expect(form.locator(".ant-select", has_text="typed_in").first).to_be_visible()


def test_what_is_refused_opens_its_part_and_says_so_there(page, drafted):
    let_in(page, "author")
    page.goto("/extracts/typed_in")
    gives = page.get_by_role("region", name="What it gives")
    page.get_by_role("button", name="Change: What it gives").click()
    gives.get_by_label("File name").fill("{nobody}")
    page.get_by_role("button", name="Close: What it gives").click()
    expect(gives).to_contain_text("csv, named {nobody}")
    page.get_by_role("button", name="Save revision").click()
    expect(gives.get_by_role("alert")).to_contain_text("nobody")
    expect(gives.get_by_role("alert")).to_be_focused()
    expect(gives.get_by_label("File name")).to_have_value("{nobody}")
    page.get_by_role("button", name="Undo changes").click()
    foresee(page, "status of 400", "status of 422")


def test_a_form_that_is_refused_says_so_in_view_at_the_keyboard_and_beside_the_field(page, drafted):
    let_in(page, "author")
    page.goto("/values")
    page.get_by_role("button", name="Add value").first.click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog.get_by_text("A name is needed.")).to_be_visible()
    expect(dialog.get_by_label("Name")).to_be_focused()
    dialog.get_by_label("Name").fill("Not a Name")
    dialog.get_by_role("button", name="Save").click()
    refused = dialog.get_by_role("alert").filter(has_text="cannot be the name")
    expect(refused).to_be_in_viewport()
    expect(refused).to_be_focused()
    page.keyboard.press("Escape")
    foresee(page, "status of 400")


@pytest.mark.parametrize(
    ("address", "title"), [("/", "Last night"), ("/extracts/typed_in", "typed_in"), ("/nowhere", "No such page")]
)
def test_every_page_has_a_title(page, drafted, address, title):
    let_in(page, "author")
    page.goto(address)
    expect(page).to_have_title(f"{title} · Patient Ladle")
    foresee(page, "status of 404")  # an address that is not there


FORMS = (
    ("/new-schedule", "", "Name"), ("/new-source", "", "Name"), ("/new-channel", "", "Name"), ("/people", "Add person", "Name"),
    ("/people", "Add group", "Name"), ("/values", "Add value", "Name"), ("/lookups", "Add lookup", "Name"),
    ("/environments", "Add environment", "Name"), ("/calendars", "Add calendar", "Name"), ("/account", "Make a token", "What it is for"),
)  # fmt: skip
"""Each by its page, the button that opens it, and a field; those of a thing that is there are the same forms."""


def opened(page, path, button):
    page.goto(path)
    if button:
        page.get_by_role("button", name=button, exact=True).click()
    return page.get_by_role("dialog") if button else page.locator("main")


def held_by_the_browser(page):
    return page.evaluate("Object.entries(localStorage).filter(([key]) => key.startsWith('typed|')).flat().join()")


def test_every_form_has_its_fields_again_when_its_page_was_loaded_anew(page, drafted):
    sign_in(page, "administrator")
    for number, (path, button, label) in enumerate(FORMS):
        opened(page, path, button).get_by_label(label, exact=True).first.fill(f"typed-{number}")
        page.reload()
        form = opened(page, path, button)
        expect(form.get_by_label(label, exact=True).first).to_have_value(f"typed-{number}")
        expect(form.get_by_text("As you left it.")).to_be_visible()
    form = opened(page, "/new-channel", "")
    form.get_by_role("combobox", name="Kind").click()
    page.get_by_title("webhook", exact=True).click()
    form.get_by_label("Secret").fill("hush-hush")
    form.get_by_label("url").fill("https://alerts.fennmoor.example/hush-hush")
    form = opened(page, "/people", "Add person")
    form.get_by_label("Password").fill("hush-hush-hush")
    assert "typed-3" in held_by_the_browser(page)
    assert "hush" not in held_by_the_browser(page)
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()
    sign_in(page, "reader")
    assert held_by_the_browser(page) == ""


def test_a_text_and_its_change_note_survive_a_reload_while_the_service_is_away(page, drafted):
    sign_in(page, "author")
    editor = editor_of(page)
    page.on("dialog", lambda dialog: dialog.accept())
    page.route("**/api/**", lambda route: route.abort())
    write(page, editor, "select 'typed while away' as a")
    page.get_by_label("What this save changes").fill("says why")
    expect(page.get_by_text("Your draft is not kept yet.")).to_be_visible()
    page.reload()
    page.unroute("**/api/**")
    editor = editor_of(page)
    expect(editor).to_have_text("select 'typed while away' as a")
    expect(page.get_by_label("What this save changes")).to_have_value("says why")
    until(lambda: kept(drafted) == "select 'typed while away' as a")
    until(lambda: "typed while away" not in held_by_the_browser(page))
    page.get_by_role("button", name="Undo changes").click()
    until(lambda: kept(drafted) is None)
    foresee(page, "ERR_FAILED")


def test_every_menu_is_gone_through_by_keyboard_and_gives_the_keyboard_back(page, drafted):
    with drafted.ladle("author") as ladle:
        ladle.schedules.add("in_a_menu", "typed_in", "live", "1st of january 00:00")
        run = ladle.runs.wait(ladle.runs.start("typed_in")["id"], PATIENCE)
    sign_in(page, "author")
    for path, button, item, opens in (
        ("/schedules", "More for in_a_menu", "Backfill", True),
        (f"/runs/{run['id']}", "With another revision", "With the newest revision", False),
        ("/extracts/typed_in", "Add a step with name", "Sort", False),
    ):
        page.goto(path)
        if "step" in button:
            page.get_by_role("button", name="Preview", exact=True).click()
        at = page.get_by_role("button", name=button, exact=True)
        at.focus()
        page.keyboard.press("Enter")
        expect(page.get_by_role("menuitem").first).to_be_focused()
        page.keyboard.press("Escape")
        expect(at).to_be_focused()
        page.keyboard.press("Enter")
        chosen = page.get_by_role("menuitem", name=re.compile(item))
        expect(page.get_by_role("menuitem").first).to_be_focused()
        for _ in range(12):
            if chosen.first.evaluate("found => found === document.activeElement"):
                break
            page.keyboard.press("ArrowDown")
        page.keyboard.press("Enter")
        if opens:
            expect(page.get_by_role("dialog")).to_be_visible()
            page.keyboard.press("Escape")
            expect(at).to_be_focused()
        elif "step" in button:
            expect(page.get_by_role("region", name="What is done to it")).to_be_visible()
        else:
            page.wait_for_url(re.compile(rf"/runs/(?!{run['id']}$)"))
    until(lambda: kept(drafted) is not None)
    page.get_by_role("button", name="Undo changes").click()
    until(lambda: kept(drafted) is None)
    with drafted.ladle("author") as ladle:
        ladle.schedules.remove("in_a_menu")
