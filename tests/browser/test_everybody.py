"""Every page and every dialog at every width, light and dark: nothing beyond the edge, and the rules for access are met."""

from __future__ import annotations

import re

import pytest

from tests.profile import LONG, WIDTHS

from .conftest import expect, foresee, let_in
from .test_console import AXE

PAGES = (
    "/", "/?view=list", "/runs", "/runs/1", "/extracts", "/extracts/district_use",
    "/extracts/district_use?open=reads,asks,gives,holds,goes,notes", "/extracts/stepwise?open=done", "/lookups", "/lookups/glossary?open=revisions", "/extracts/district_use?open=runs,became,revisions",
    "/new-extract/a-new-one", "/extracts/put_together?open=outline", "/results", "/values", "/schedules", "/schedules/glanced_at", "/schedules/glanced_at/edit",
    "/new-schedule?extract=district_use", "/alerts", "/sources", "/new-source", "/sources/works/edit", "/new-channel",
    "/sources/works?environment=live&table=districts", "/workers", "/channels",
    "/calendars", "/environments", "/people", "/account", "/nowhere",
)  # fmt: skip
RULED = WIDTHS[:1] if not LONG else (1280, 600, 400)
"""At which the rules are looked at; at another only what lies beyond the edge."""
RULES = {"runOnly": ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]}
COLOURS = {"runOnly": {"type": "rule", "values": ["color-contrast", "link-in-text-block"]}}
"""All that the dark view changes: its widths are those of the light one."""
DIALOGS = (
    ("/people", "Add person"), ("/people", "author"), ("/account", "Make a token"), ("/environments", "Add environment"),
    ("/calendars", "Add calendar"),
    ("/values", "Add value"), ("/lookups", "Add lookup"), ("/extracts/district_use", "Rename or move"), ("/extracts/district_use", "Copy"),
    ("/extracts/district_use", "Archive"),
)  # fmt: skip


OUTLINE = {
    "outline": 1, "from": {"table": "readings", "as": "r"},
    "with": [{"table": "districts", "as": "d", "on": [{"left": "r.district_id", "right": "d.district_id"}]}],
    "show": [{"column": "d.name"}, {"column": "r.read_at", "bucket": "month"}, {"column": "r.litres", "aggregate": "sum"}],
    "where": {"all": [{"column": "r.estimated", "value": False}, {"any": [{"column": "d.zone", "test": "contains", "value": "o"}]}]},
    "grouped": [{"column": "d.name"}, {"column": "r.read_at", "bucket": "month"}], "sorted": [{"by": "name"}], "first": 10,
}  # fmt: skip


@pytest.fixture(scope="module")
def looked_into(service):
    """Something stands on every page."""
    with service.ladle("author") as ladle:
        ladle.runs.wait(ladle.runs.start("district_use")["id"])
        for source in ("works", "metering"):
            ladle.sources.run_query(source, "live", "catalogue")
        ladle.extracts.add("put_together", "metering", outline=OUTLINE)
        ladle.lookups.add("glossary", text="code,name,weight\nN1,North,1.5\nS1,,2\n")
        ladle.lookups.put("glossary", {"code": "N1", "name": "Far North"})
        steps = [{"step": "filter", "where": "zone is not null"}, {"step": "sort", "order": ["zone"], "off": True}]
        ladle.extracts.add("stepwise", "metering", "select name, zone from districts", steps=steps)
        ladle.schedules.save_calendar("england", "GB", "ENG")
        ladle.schedules.add("glanced_at", "district_use", "live", "daily at 05:00", zone="UTC", calendar="england")
        ladle.schedules.run("glanced_at")
    return service


def faults(page, whole=("html", "main"), rules=RULES):
    """What lies beyond the window's edge, and what the rules for access say."""
    # What lies under the bar that stays at the bottom is reached by scrolling.
    page.evaluate("document.querySelectorAll('.save-bar').forEach(bar => { bar.style.position = 'static' })")
    beyond = page.evaluate(
        "of => Math.max(0, ...of.map(s => document.querySelector(s)).map(e => e.scrollWidth - e.clientWidth))", [*whole]
    )
    if rules is None:
        return [("beyond the edge", beyond)] if beyond else []
    if not page.evaluate("typeof axe == 'object'"):
        page.evaluate(AXE)
    found = page.evaluate("rules => axe.run(document, rules)", rules)["violations"]
    said = [(v["id"], v["nodes"][0]["target"], v["nodes"][0]["failureSummary"][:200]) for v in found]
    return ([("beyond the edge", beyond)] if beyond else []) + said


@pytest.mark.parametrize("mode", ["light", "dark"])
def test_the_sign_in_is_there_for_everybody(page, mode):
    page.emulate_media(color_scheme=mode)
    page.goto("/")
    expect(page.get_by_label("Password")).to_be_visible()
    for width in WIDTHS:
        page.set_viewport_size({"width": width, "height": 800})
        assert faults(page, whole=("html",)) == []


@pytest.mark.parametrize("address", PAGES)
def test_every_page_is_there_for_everybody_at_every_width(page, looked_into, address):
    foresee(page, "status of 404")
    let_in(page, "administrator")
    page.goto(address)
    expect(page.get_by_role("heading").first).to_be_visible()
    page.wait_for_load_state("networkidle")
    found = {}
    for width in WIDTHS:
        page.set_viewport_size({"width": width, "height": 800})
        if wrong := faults(page, rules=RULES if width in RULED else None):
            found[width] = wrong
    if LONG or PAGES.index(address) % 3 == 0:
        page.set_viewport_size({"width": 1280, "height": 800})
        page.get_by_role("button", name="Dark view").click()
        if wrong := faults(page, rules=COLOURS):
            found["dark"] = wrong
    assert not found, "\n".join(f"{where}: {wrong}" for where, wrongs in found.items() for wrong in wrongs)


CHANGES = re.compile(
    r"^(Add|New|Edit|Remove|Pause|Resume|Run(?! \d)|Drain|Check|Refresh|Rename|Copy(?! link)|Archive|Restore|Release|Reject|Publish|Test|Save)\b"
)
"""How buttons and links begin that change something."""


@pytest.mark.long  # every page once more; what is refused is tested where it is refused
def test_a_reader_is_offered_nothing_that_is_refused(page, looked_into):
    """And no page asks the service for what it does not show: the browser would say so."""
    let_in(page, "reader")
    offered = {}
    for address in PAGES[:-1]:
        page.goto(address)
        expect(page.get_by_role("heading").first).to_be_visible()
        page.wait_for_load_state("networkidle")
        words = page.evaluate(
            "() => [...document.querySelectorAll('main button, main a')].map(e => (e.ariaLabel || e.innerText || '').trim())"
        )
        offered[address] = [each for each in words if CHANGES.match(each)]
    assert {address: words for address, words in offered.items() if words} == {}


@pytest.mark.parametrize("mode", ["light", pytest.param("dark", marks=pytest.mark.long)])
def test_every_dialog_is_there_for_everybody(page, looked_into, mode):
    let_in(page, "administrator")
    page.emulate_media(color_scheme=mode)
    found = {}
    for address, button in DIALOGS:
        page.set_viewport_size({"width": 1280, "height": 800})
        page.goto(address)
        page.get_by_role("button", name=button, exact=True).click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_be_visible()
        for width in (1280, 400) if mode == "light" else (1280,):
            page.set_viewport_size({"width": width, "height": 800})
            dialog.evaluate("of => Promise.all(of.getAnimations({ subtree: true }).map(each => each.finished))")
            if wrong := faults(page, ("html", "[role=dialog]"), RULES if mode == "light" else COLOURS):
                found[address, button, width] = wrong
    assert not found, "\n".join(f"{where}: {wrong}" for where, wrongs in found.items() for wrong in wrongs)
