"""How soon things happen: each many times, alone on the machine, with a bound. ``./scripts/test --latency``.

Nothing else in the tests looks at a clock to judge speed; how much work a second takes is measured by ``./scripts/bench``.
"""

from __future__ import annotations

import statistics
import threading
import time
from datetime import datetime

import psycopg
import pytest
from playwright.sync_api import sync_playwright

from patient_ladle.adapters.sources import get_engine
from patient_ladle.core.errors import RunCancelled
from patient_ladle.core.ports import Statement
from scripts.chromium import launched
from tests.adapters.sources.test_contract import CASES
from tests.browser.conftest import let_in
from tests.conftest import until

TRIES = 12


@pytest.fixture
def within(found):
    """``within(what, bound, once)``: seconds that ``once`` returns, many times; the median must be within the bound."""

    def measured(what, bound, once, every=False):
        once()  # what is loaded the first time is loaded
        took = sorted(once() for _ in range(TRIES))
        median = statistics.median(took)
        found(f"| {what} | {median * 1000:.0f} ms | {took[-1] * 1000:.0f} ms | {bound * 1000:.0f} ms |")
        assert (took[-1] if every else median) <= bound, f"{what}: {[round(each, 3) for each in took]}"

    return measured


def since(began):
    return time.perf_counter() - began


@pytest.mark.parametrize("engine", ["postgresql", "mariadb", "sqlite", "duckdb"])
def test_a_cancel_is_felt_in_the_database_within_a_second(within, request, home, engine):
    words = CASES[engine]
    address, secret, *_ = words.built(home, request)

    def once():
        session = get_engine(engine).open(address, secret)
        begun, asked = threading.Event(), []

        def cancel():
            begun.wait()
            time.sleep(0.05)
            asked.append(time.perf_counter())
            session.cancel()

        cancelling = threading.Thread(target=cancel)
        cancelling.start()
        with pytest.raises(RunCancelled):
            begun.set()
            session.describe(Statement(words.SLOW_ROWS))
            for _ in session.batches():
                pass
        ended = time.perf_counter()
        cancelling.join()
        session.close()
        return ended - asked[0]

    within(f"a cancel felt in {engine}", 1.0, once, every=True)


def test_a_cancelled_run_lets_go_of_its_database_within_a_second(within, service, cluster):
    busy = "select count(*) from pg_stat_activity where usename = 'reader' and state = 'active' and query ilike 'copy%'"
    with service.ladle() as ladle, psycopg.connect(cluster.url("metering"), autocommit=True) as watch:

        def once():
            run = ladle.runs.start("slow")["id"]
            until(lambda: watch.execute(busy).fetchone() != (0,))
            began = time.perf_counter()
            ladle.runs.cancel(run)
            while watch.execute(busy).fetchone() != (0,):
                time.sleep(0.002)
            took = since(began)
            until(lambda: ladle.runs.get(run)["state"] == "cancelled")
            return took

        within("a cancelled run out of PostgreSQL", 1.0, once, every=True)


def test_a_run_begins_within_fifty_milliseconds(within, service):
    with service.ladle() as ladle:

        def once():
            run = ladle.runs.wait(ladle.runs.start("district_use", publish=False)["id"])
            queued, began = (datetime.fromisoformat(run[name]) for name in ("queued_at", "started_at"))
            return (began - queued).total_seconds()

        within("from queued to begun", 0.05, once)


def test_a_small_run_is_whole_soon(within, service):
    with service.ladle() as ladle:

        def once():
            began = time.perf_counter()
            ladle.runs.wait(ladle.runs.start("district_use", publish=False)["id"])
            return since(began)

        within("a run of three rows to three proven files, as its caller sees it", 1.0, once)


def test_a_look_at_one_row_and_the_first_answer_of_a_preview_come_at_once(within, service):
    with service.ladle() as ladle:
        ladle.sources.run_query("metering", "live", "catalogue")

        def look():
            began = time.perf_counter()
            ladle.sources.run_query("metering", "live", "rows", table="districts", rows=1)
            return since(began)

        def preview():
            began = time.perf_counter()
            asked = ladle.extracts.start_preview("metering", "live", "select * from readings", rows=100)
            ladle.sources.wait_for_query(asked)
            return since(began)

        within("a look at one row", 0.5, look)
        within("the first rows of a preview", 0.5, preview)


def test_a_page_of_the_console_is_there_at_once(within, service):
    with sync_playwright() as playwright:
        browser = launched(playwright)
        context = browser.new_context(base_url=service.url)
        page = context.new_page()
        let_in(page)

        def once(path, heading):
            page.goto("about:blank")
            began = time.perf_counter()
            page.goto(path)
            page.get_by_role("heading", name=heading, exact=True).first.wait_for()
            return since(began)

        for path, heading in (("/", "Last night"), ("/extracts", "Extracts"), ("/runs", "Runs")):
            within(f"the page {path}, opened anew", 1.5, lambda path=path, heading=heading: once(path, heading))
        browser.close()
