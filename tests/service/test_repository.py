"""The list of extracts: found by words and terms, each with its last run, and kept in order several at once."""

from __future__ import annotations

from datetime import timedelta

import pytest

from patient_ladle.client import CallFailed, RunFailed

FEW = [{"guard": "rows", "at_least": 900, "then": "hold"}]


@pytest.fixture(scope="module")
def listed(service):
    with service.ladle("author") as ladle:
        for name, folder in (("meters_all", "listed/a"), ("meters_new", "listed/a/b"), ("billed_late", "listed/ab")):
            ladle.extracts.add(name, "metering", f"select '{name}' as unlike_{name}", folder=folder, notes="*For* the audit")
        ladle.extracts.add("wrong_column", "works", "select nmae from districts", folder="listed/c")
        ladle.extracts.add("too_few", "metering", "select name from districts", folder="listed/c", guards=FEW)
        ladle.extracts.edit("meters_new", ["payroll", "monthly run"])
        ladle.schedules.add("listed-daily", "meters_all", "live", "daily 05:00", first_date="2031-01-01")
        ladle.schedules.add("listed-paused", "meters_new", "live", "daily 04:00", then=[{"extract": "billed_late"}])
        ladle.schedules.pause("listed-paused")
        for name in ("too_few", "meters_all"):
            ladle.runs.wait(ladle.runs.start(name, publish=True)["id"])
        with pytest.raises(RunFailed):
            ladle.runs.wait(ladle.runs.start("wrong_column")["id"])
    yield service
    with service.ladle("author") as ladle:
        for name in ("listed-daily", "listed-paused"):
            ladle.schedules.remove(name)


def names(ladle, *given, **more):
    return [each["name"] for each in ladle.extracts.list(*given, **more) if each["folder"].startswith("listed")]


@pytest.mark.parametrize(
    ("search", "found"),
    [
        ("meters", ["meters_all", "meters_new"]),
        ("meters audit", ["meters_all", "meters_new"]),
        ("METERS payroll", ["meters_new"]),
        ('tag:"monthly run"', ["meters_new"]),
        ("tag:month", []),
        ("folder:listed/a", ["meters_all", "meters_new"]),
        ("folder:listed source:works", ["wrong_column"]),
        ("owner:AUTHOR folder:listed/c", ["too_few", "wrong_column"]),
        ("owner:nobody", []),
        ("unlike_meters_all", ["meters_all"]),
        ("state:failed", ["wrong_column"]),
        ("state:held state:finished", ["too_few"]),
        ("state:never", ["meters_new", "billed_late"]),
        ("state:paused", ["meters_new", "billed_late"]),
        ("state:unscheduled folder:listed", ["too_few", "wrong_column"]),
    ],
)
def test_words_and_terms_find_what_meets_all_of_them(listed, search, found):
    with listed.ladle("author") as ladle:
        assert sorted(names(ladle, search)) == sorted(found)


def test_a_state_that_is_none_is_refused_with_the_nearest(listed):
    with listed.ladle("author") as ladle:
        with pytest.raises(CallFailed, match=r"there is no such state\. Did you mean 'state:failed'"):
            ladle.extracts.list("state:fialed")
        with pytest.raises(CallFailed, match="It takes one of: waiting, queued"):
            ladle.extracts.list("state:xxxxxx")


def test_each_line_says_how_it_went_and_what_comes_next(listed):
    with listed.ladle("author") as ladle, listed.ladle("reader") as reader:
        lines = {each["name"]: each for each in ladle.extracts.list(folder="listed")}
        run = lines["meters_all"]["last_run"]
        assert (run["state"], run["rows"], run["environment"], lines["meters_all"]["problem"]) == ("finished", 1, "live", "")
        due = ladle.schedules.get("listed-daily")["next_due"][0]["at"]
        assert (lines["meters_all"]["next_due_at"], lines["meters_all"]["schedules"]) == (due, 1)
        for name in ("meters_new", "billed_late"):
            assert (lines[name]["next_due_at"], lines[name]["schedules"], lines[name]["paused"]) == (None, 1, 1)
            assert lines[name]["last_run"] is None
        assert lines["too_few"]["last_run"]["held"] == "held"
        assert "at least 900 rows" in lines["too_few"]["problem"]
        assert "nmae" in lines["wrong_column"]["problem"]
        theirs = {each["name"]: each for each in reader.extracts.list(folder="listed")}
        assert theirs["wrong_column"]["problem"]
        assert "nmae" not in theirs["wrong_column"]["problem"]
        assert names(reader, "unlike_meters_all") == []  # a reader cannot find out what a statement holds


def test_favourites_and_what_was_opened_are_each_persons_own(listed):
    with listed.ladle("author") as ladle, listed.ladle("reader") as reader:
        assert names(reader, favourite=True) == []
        reader.extracts.set_favourite("billed_late")
        reader.extracts.set_favourite("billed_late")
        reader.transport.call("POST", "/extracts/meters_new/opened")
        assert names(reader, favourite=True) == ["billed_late"]
        assert names(ladle, favourite=True) == []
        opened = {each["name"]: each["opened_at"] for each in reader.extracts.list(folder="listed")}
        assert [name for name, at in opened.items() if at] == ["meters_new"]
        mine = {each["name"]: each["opened_at"] for each in ladle.extracts.list(folder="listed")}
        assert all(mine.values())  # who saves one, or runs it, has it in hand
        reader.extracts.set_favourite("billed_late", False)
        assert names(reader, favourite=True) == []


def test_several_are_filed_together_and_put_back_by_what_comes_back(listed):
    with listed.ladle("author") as ladle:

        def filed():
            found = [*ladle.extracts.list(folder="listed"), *ladle.extracts.list(folder="listed", archived=True)]
            return {e["name"]: (e["folder"], e["tags"], e["archived_at"] is not None) for e in found}

        was = filed()
        done = ladle.extracts.file(
            [
                {"name": "meters_all", "folder": "listed/z", "tags": ["b", "a"]},
                {"name": "meters_new", "archived": True},
                {"name": "billed_late", "archived": False, "tags": []},
            ]
        )
        now = filed()
        assert now["meters_all"] == ("listed/z", ["a", "b"], False)
        assert now["meters_new"] == ("listed/a/b", ["monthly run", "payroll"], True)
        assert ladle.extracts.get("meters_all")["revision"]["number"] == 1
        ladle.extracts.file(done["before"])
        assert filed() == was
        for wrong, words in (
            ([{"name": "meters_all", "folder": "listed/q"}, {"name": "meters_nex"}], "Did you mean 'meters_new'"),
            ([{"name": "meters_all", "tags": ["?"]}], "cannot be a tag"),
            ([{"name": "meters_all", "folder": "x"}, {"name": "meters_all", "tags": []}], "'meters_all' was given twice"),
            ([{"name": f"n{n}"} for n in range(1001)], "1,000 at most go together"),
            ([{"name": "meters_all", "fodler": "x"}], "Did you mean 'folder'"),
        ):
            with pytest.raises(CallFailed, match=words):
                ladle.extracts.file(wrong)
        assert filed() == was
    with listed.ladle("runner") as runner, pytest.raises(CallFailed, match="this needs author"):
        runner.extracts.file([{"name": "meters_all", "folder": "x"}])


def test_a_longer_list_takes_no_more_queries(repository):
    from django.db import connection
    from django.test.utils import CaptureQueriesContext

    from patient_ladle.service.extracts.models import Extract, Revision
    from patient_ladle.service.extracts.searching import listed, marks_of, searched
    from patient_ladle.service.extracts.services import add_extract
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.runs.glance import glances
    from patient_ladle.service.runs.repository_api import FIELDS, ExtractLine, read_search
    from patient_ladle.service.runs.services import start_run

    def asked():
        with CaptureQueriesContext(connection) as made:
            extracts = listed(searched(Extract.objects.all(), read_search("glanced", FIELDS)))
            shown = glances(extracts, marks_of(repository, extracts))
            lines = ExtractLine(shown, many=True).data
        return len(made), lines

    counts = []
    try:
        for n in range(12):
            extract = add_extract(repository, f"glanced_{n}", "glanced", "", source="wide", statement="select 1 as a")
            earlier, newest = (start_run(repository, {"extract": extract.name}) for _ in range(2))
            Run.objects.filter(pk=earlier.pk).update(queued_at=newest.queued_at + timedelta(days=1))
            count, lines = asked()
            counts.append(count)
            assert {line["name"]: line["last_run"]["id"] for line in lines}[extract.name] == newest.pk
    finally:
        Run.objects.all().delete()
        Revision.objects.filter(extract__folder="glanced").delete()
        Extract.objects.filter(folder="glanced").delete()
    assert counts[0] == counts[-1]
