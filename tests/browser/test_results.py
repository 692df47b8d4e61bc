"""Output settings beside their sample, and result files, in a real browser."""

from __future__ import annotations

import re

import pytest

from tests.command import PATIENCE

from .conftest import expect, foresee, let_in, sign_in
from .test_console import violations


@pytest.fixture(scope="module")
def plain(service):
    """An extract without any output settings."""
    with service.ladle("author") as ladle:
        ladle.extracts.add(
            "plain_output",
            "metering",
            "select name, zone, district_id * 1.5 as litres from districts order by 1",
            formats=["csv", "xlsx"],
        )
    return service


def test_output_settings_show_at_once_what_a_file_would_look_like_and_are_saved(page, plain):
    let_in(page, "author")
    page.goto("/extracts/plain_output")
    expect(page.get_by_text("No errors")).to_be_visible()
    page.get_by_role("button", name="Change: What it gives").click()
    expect(page.get_by_text("Press Preview above")).to_be_visible()
    page.get_by_role("button", name="Preview", exact=True).click()
    sample = page.get_by_role("region", name="Sample of csv")
    expect(sample).to_contain_text("name,zone,litres\nAlder Moor,North,1.5")
    of_files = page.get_by_role("radiogroup", name="What of the files")
    of_files.get_by_text("csv", exact=True).click()
    page.get_by_label("Options of csv: delimiter").fill("semicolon")
    page.get_by_label("Options of csv: true_as").fill("yes")
    page.get_by_role("combobox", name="Options of csv: decimal_separator").click()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(sample).to_contain_text("Alder Moor;North;1,5")
    of_files.get_by_text("Columns", exact=True).click()
    page.get_by_label("Name of zone in the file").fill("region")
    page.get_by_role("checkbox", name="Leave out litres").click()
    page.get_by_role("button", name="zone earlier").click()
    expect(sample).to_contain_text("region;name\nNorth;Alder Moor")
    of_files.get_by_text("csv (3)", exact=True).click()
    page.get_by_label("Options of csv: delimiter").fill("ab")
    expect(page.get_by_text("csv: 'ab' cannot be a delimiter.")).to_be_visible()
    foresee(page, "status of 400")
    page.get_by_label("Options of csv: delimiter").fill(";")
    expect(sample).to_contain_text("region;name")
    assert violations(page) == []
    page.get_by_role("button", name="Save revision").click()
    expect(page.get_by_role("button", name="Save revision")).to_be_disabled()
    with plain.ladle() as ladle:
        revision = ladle.extracts.get("plain_output")["revision"]
    assert (revision["number"], revision["output"]) == (2, {
        "formats": {"csv": {"delimiter": ";", "true_as": "yes", "decimal_separator": ","}},
        "columns": [{"name": "zone", "as": "region"}, {"name": "name"}],
    })  # fmt: skip


def test_result_files_are_found_looked_into_and_taken(page, plain):
    with plain.ladle("runner") as ladle:
        run = ladle.runs.wait(ladle.runs.start("plain_output", publish=True)["id"], PATIENCE)
    page.context.grant_permissions(["clipboard-read", "clipboard-write"])
    sign_in(page, "reader")
    page.get_by_role("link", name="Result files").click()
    page.get_by_label("Search").fill("plain_output")
    page.get_by_role("button", name=re.compile(r"^plain_output.*\.xlsx")).click()
    rows = page.get_by_role("grid", name=re.compile("^plain_output"))
    expect(rows).to_contain_text("Alder Moor")
    page.get_by_role("combobox", name="Sheet").click()
    page.get_by_title("Origin").click()
    expect(rows).to_contain_text("data date")
    assert violations(page) == []
    page.keyboard.press("Escape")
    with page.expect_download() as download:
        page.get_by_role("link", name="Download plain_output").first.click()
    assert download.value.suggested_filename.startswith("plain_output-")
    page.get_by_role("button", name="Copy link to latest csv of plain_output").click()
    expect(page.get_by_text("an address that always gives what this extract published last")).to_be_visible()
    address = page.evaluate("navigator.clipboard.readText()")
    taken = page.request.get(address)
    assert (taken.status, taken.headers["x-run"]) == (200, str(run["id"]))
    page.get_by_role("link", name=str(run["id"]), exact=True).first.click()
    with page.expect_download() as download:
        page.get_by_role("link", name="All files and their descriptor as one archive").click()
    assert download.value.suggested_filename.endswith(f"run-{run['id']}.zip")
