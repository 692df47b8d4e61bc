"""What a source says that no record can keep: runs and looks end all the same, and tell of it."""

from __future__ import annotations

import pytest

from patient_ladle.client import QueryFailed, RunFailed
from tests.command import PATIENCE


@pytest.fixture(scope="module")
def author(service, home):
    folder = home / "odd-texts"
    folder.mkdir()
    (folder / "wide.csv").write_bytes("id,name\n1,Moor\n".encode("utf-16"))
    with service.ladle() as ladle:
        ladle.sources.add("odd_texts", "files", {"live": {"address": {"folder": str(folder)}}})
    with service.ladle("author") as ladle:
        yield ladle


def test_a_run_whose_error_holds_a_nul_ends_and_says_what_was_wrong(author):
    run = author.runs.start_unsaved("odd_texts", statement="select * from wide", formats=["csv"])
    with pytest.raises(RunFailed) as told:
        author.runs.wait(run["id"], PATIENCE)
    ended = author.runs.get(run["id"])
    assert ended["state"] == "failed", told.value
    assert ended["error"]["code"] not in ("worker_lost", "service_fault")
    assert not any("\0" in line["text"] for line in author.runs.log(run["id"]))


def test_a_look_whose_error_holds_a_nul_ends_at_once(author):
    with pytest.raises(QueryFailed) as told:
        author.sources.wait_for_query(author.extracts.start_preview("odd_texts", "live", "select * from wide"))
    assert told.value.code not in ("worker_lost", "service_fault")


def test_a_nul_in_a_cell_or_a_name_is_shown_by_its_mark(author):
    text = "select 'a' || char(0) || 'b' as n"
    [[cell]] = author.sources.wait_for_query(author.extracts.start_preview("laboratory", "live", text))["result"]["rows"]
    assert cell == "a\u2400b"
