"""The browser, a page that complains of everything it is told, and the way in."""

from __future__ import annotations

import os

import pytest

from scripts.chromium import launched
from tests.command import PATIENCE
from tests.conftest import PASSWORD

os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"  # the browser's driver keeps an event loop in this thread
sync_api = pytest.importorskip("playwright.sync_api")
expect = sync_api.expect
expect.set_options(timeout=PATIENCE * 1000)


@pytest.fixture(scope="package")
def browser():
    with sync_api.sync_playwright() as playwright:
        made = launched(playwright)
        yield made
        made.close()


@pytest.fixture
def page(browser, request):
    """A page of the service that the test uses: ``service``, or the module's own ``harmed``."""
    used = request.getfixturevalue("harmed" if "harmed" in request.fixturenames else "service")
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, base_url=used.url, accept_downloads=True, reduced_motion="reduce"
    )
    context.set_default_timeout(PATIENCE * 1000)
    made, said = context.new_page(), []
    made.on("console", lambda message: said.append(message.text) if message.type in ("error", "warning") else None)
    made.on("pageerror", lambda error: said.append(repr(error)))
    made.foreseen = []
    yield made
    context.close()
    assert [text for text in said if not any(words in text for words in made.foreseen)] == []


def foresee(page, *words):
    """The browser may say on this page what holds one of these words, at any time: an answer comes when it comes."""
    page.foreseen.extend(words)


def offered(page, word):
    """The option that Enter takes is this one; until then it takes nothing."""
    expect(page.locator(".ant-select-dropdown:visible .ant-select-item-option-active", has_text=word)).to_be_visible()


def let_in(page, name="administrator"):
    """Signed in without the form, and on no page yet: most tests are about what comes after it."""
    ask, patience = page.context.request, PATIENCE * 1000
    ask.get("/", timeout=patience)
    [token] = [cookie["value"] for cookie in page.context.cookies() if cookie["name"] == "csrftoken"]
    given = {"name": name, "password": PASSWORD}
    answer = ask.post("/api/v1/sign-in", data=given, headers={"X-CSRFToken": token}, timeout=patience)
    assert answer.ok, answer.text()


def sign_in(page, name="administrator"):
    """By the form, as a person does, to the first page."""
    page.goto("/")
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill(PASSWORD)
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Last night", exact=True)).to_be_visible()
