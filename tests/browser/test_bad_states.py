"""What goes wrong outside a statement is told alike by the HTTP interface, the client, the command line and the console."""

from __future__ import annotations

import os
import subprocess

import pytest

from patient_ladle.client import Ladle, RunFailed
from tests.command import PATIENCE
from tests.conftest import ADMINISTRATOR, PASSWORD, first_password, free_port, start_service, stop_service, until

from .conftest import expect, foresee, let_in

FAULTS = [
    (
        "wrong_password",
        "source_sign_in_refused",
        "refused the login 'reader'",
        "Correct the user or the password of the source.",
    ),
    ("stopped", "source_unreachable", "nothing listens at 127.0.0.1:", "Start the database, or correct host and port"),
    ("moved", "source_database_missing", "there is no database 'meterings'", "Correct the database of the source."),
    ("staff", "source_not_readable", "permission denied for table staff", "Ask for the right to select from it."),
    *([("too_large", "disk_full", "no space is left in", "Free some space there")] if os.geteuid() == 0 else []),
]  # a small file system can be mounted by root only; the store's own tests inject the fault for everybody else


@pytest.fixture(scope="module")
def harmed(home, metering):
    """A service whose store is small and whose sources are not what they should be."""
    data = home / "harmed"
    results = data / "results"
    results.mkdir(parents=True)
    if os.geteuid() == 0:
        subprocess.run(["mount", "-t", "tmpfs", "-o", "size=300k", "tmpfs", str(results)], check=True)
    made = start_service(data)
    with Ladle.sign_in(made.url, ADMINISTRATOR, first_password(data))[0] as ladle:
        ladle.people.edit(ADMINISTRATOR, password=PASSWORD)
        ladle.sources.add_environment("live")
        right = {"address": metering, "secret": "reading-only"}
        for name, address in {
            "metering": right,
            "wrong_password": right | {"secret": "wrong"},
            "stopped": right | {"address": metering | {"port": free_port()}},
            "moved": right | {"address": metering | {"database": "meterings"}},
        }.items():
            ladle.sources.add(name, "postgresql", {"live": address})
            ladle.extracts.add(name, name, "select 1 as a")
        (data / "deliveries").mkdir()
        (data / "deliveries" / "blocked").write_text("a file, no folder")
        ladle.extracts.add("nowhere", "metering", "select 1 as a", deliver_into="blocked/here")
        ladle.extracts.add("staff", "metering", "select * from staff")
        ladle.extracts.add("too_large", "metering", "select *, repeat('x', 100) as x from readings", formats=["csv", "json"])
    yield made
    stop_service(made)
    if os.geteuid() == 0:
        subprocess.run(["umount", str(results)], check=True)
    assert not [line for line in made.log if "Traceback" in line], "".join(made.log)


@pytest.mark.parametrize(("extract", "code", "cause", "step"), FAULTS)
def test_a_fault_is_told_alike_everywhere_and_leaves_nothing(harmed, page, extract, code, cause, step):
    with harmed.ladle() as ladle:
        number = ladle.runs.start(extract)["id"]
        with pytest.raises(RunFailed) as failed:
            ladle.runs.wait(number, PATIENCE)
        error = ladle.runs.get(number)["error"]
    assert (error["code"], cause in error["message"], step in error["hint"]) == (code, True, True), error
    assert f"run {number} failed: {error['message']} {error['hint']}" == str(failed.value)
    typed = harmed.command("run", "start", extract)
    assert (typed.returncode, cause in typed.stderr, step in typed.stderr) == (1, True, True), typed.stderr
    let_in(page)
    page.goto(f"/runs/{number}")
    for words in (error["message"], error["hint"]):  # as sentences
        expect(page.get_by_role("alert")).to_contain_text(words, ignore_case=True)
    expect(page.get_by_text("This run left no files.")).to_be_visible()
    assert not (harmed.data / "results" / str(number)).exists(), "no litter"
    assert [p.name for p in (harmed.data / "deliveries").rglob("*")] == ["blocked"]


def test_a_delivery_that_cannot_be_made_is_told_alike_everywhere_and_decided_in_the_console(harmed, page):
    cause, step = "cannot be written: Not a directory", "Check that the folder exists and its rights."
    typed = harmed.command("run", "start", "nowhere")
    assert (typed.returncode, cause in typed.stdout, step in typed.stdout) == (1, True, True), typed.stdout
    number = typed.stdout.split()[1]
    let_in(page)
    page.goto(f"/runs/{number}")
    told = page.get_by_role("status").filter(has_text="Not delivered yet")
    expect(told).to_contain_text(cause)
    expect(told).to_contain_text("The result is stored and proven.")
    told.get_by_role("button", name="Decide about the delivery").click()
    form = page.get_by_role("dialog", name=f"Delivery of run {number}")
    form.get_by_label("Into other folders").check()
    form.get_by_label("Folders, separated by commas").fill("instead")
    form.get_by_label("Note for the record").fill("the share is being mended")
    press = form.get_by_role("button", name="Deliver now")
    press.click()
    delivered = harmed.data / "deliveries" / "instead"
    foresee(page, "409 (Conflict)")  # a try of the worker's own may be on its way at that very moment

    def there():
        if form.get_by_text("Only a delivery that failed, or waits, is decided about.").is_visible():
            press.click()
        return delivered.is_dir() and len(list(delivered.glob("nowhere*"))) == 2

    until(there)
    expect(page.get_by_text(str(delivered), exact=False).first).to_be_visible()
    expect(told).to_have_count(0)


def test_a_check_tells_the_same_cause_and_the_page_shows_it(harmed, page):
    checked = harmed.command("source", "check", "wrong_password")
    assert (checked.returncode, "port       passed" in checked.stdout, "login      FAILED" in checked.stdout) == (1, True, True)
    assert "Correct the user or the password of the source." in checked.stdout
    let_in(page)
    page.goto("/sources")
    expect(page.get_by_label("wrong_password", exact=True)).to_contain_text("login: the server at 127.0.0.1")
    page.get_by_role("button", name="Check stopped").click()
    expect(page.get_by_label("stopped", exact=True)).to_contain_text("port: nothing listens at")
