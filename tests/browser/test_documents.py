"""A document store in the console: a family of collections, fields, rows, a command with its words proposed and its options."""

from __future__ import annotations

from datetime import date

import pytest
from playwright.sync_api import expect

from patient_ladle.service.demo.contacts import contacts_server

from .conftest import let_in

TEXT = '{"find": "contacts_open", "filter": {"channel": "phone"}, "projection": {"contact": 1, "calls": 1}}'


@pytest.fixture(scope="module")
def store(service):
    made = contacts_server(date(2026, 11, 24), {"live": "contacts-reader"}, "reading-only", {"live": (4, 60)})
    made.start()
    address = {"host": "127.0.0.1", "port": made.port, "database": "contacts_live", "user": "contacts-reader"}
    with service.ladle() as ladle:
        ladle.sources.add("seen_contacts", "documents", {"live": {"address": address, "secret": "reading-only"}})
        ladle.sources.run_query("seen_contacts", "live", "catalogue")
        ladle.extracts.add("seen_calls", "seen_contacts", TEXT, formats=["csv"])
    yield made
    made.stop()


def test_a_family_of_collections_is_one_line_and_a_chart(page, store):
    let_in(page)
    page.goto("/sources/seen_contacts?environment=live")
    tables = page.get_by_role("navigation", name="Tables")
    expect(tables.get_by_role("button")).to_have_count(2)
    tables.get_by_role("button", name="contacts_* 162").click()
    chart = page.get_by_role("table", name="Rows of contacts_*")
    expect(chart.get_by_role("row")).to_have_count(4)
    expect(chart.get_by_role("row", name="2026-11 60")).to_be_visible()
    chart.get_by_role("button", name="2026-10").click()
    expect(page.get_by_role("grid", name="contacts_2026_10").get_by_role("gridcell").first).to_be_visible()
    expect(tables.get_by_role("button")).to_have_count(6)
    page.get_by_role("tab", name="Columns and keys").click()
    expect(page.get_by_role("row", name="customer.address.town string")).to_be_visible()


def test_a_command_is_proposed_remarked_on_and_previewed_as_its_options_say(page, store):
    let_in(page)
    page.goto("/extracts/seen_calls")
    expect(page.get_by_text("No errors")).to_be_visible()
    page.get_by_role("textbox", name="Statement", exact=True).click()
    page.keyboard.press("Control+a")
    page.keyboard.insert_text('{"find": "contacts_open", "filter": {')
    page.keyboard.type('"top')
    options = page.get_by_role("listbox").get_by_role("option")
    options.filter(has_text="topic").click()  # a key is not heard by a list that has only just come
    page.keyboard.insert_text(': "leak", "chanel": "phone"}}')
    expect(page.get_by_text("has a field 'chanel'")).to_be_visible()
    page.keyboard.press("Control+a")
    page.keyboard.insert_text(TEXT)
    expect(page.get_by_text("has a field 'chanel'")).to_have_count(0)
    page.get_by_role("button", name="Change: What it gives").click()
    page.get_by_text("Documents", exact=True).click()
    page.get_by_label("rows_of").fill("calls")
    page.get_by_role("button", name="Preview", exact=True).click()
    expect(page.get_by_role("columnheader", name="calls.minutes")).to_be_visible()
    page.get_by_role("button", name="Count all rows").click()
    expect(page.get_by_text("rows in all", exact=False)).to_be_visible()
