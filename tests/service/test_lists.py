"""Lists of runs, result files and schedules: narrowed, in any order, page by page, against a slow reckoning."""

from __future__ import annotations

import random
from datetime import date, datetime, timedelta, timezone
from operator import itemgetter
from urllib.parse import urlencode

import pytest

from patient_ladle.core.errors import BadInput
from tests.conftest import until

OF_RUNS = {
    "id": itemgetter("id"),
    "extract": itemgetter("extract"),
    "environment": itemgetter("environment"),
    "state": itemgetter("state"),
    "data_date": itemgetter("data_date"),
    "rows": lambda run: -1 if run["rows"] is None else run["rows"],
    "took": lambda run: moment(run["ended_at"]) - moment(run["started_at"]) if run["ended_at"] and run["started_at"]
    else timedelta(seconds=-1),
}  # fmt: skip


def moment(text):
    return datetime.fromisoformat(text)


@pytest.fixture
def many(repository):
    """Three hundred runs with few different values, so that most share theirs with others."""
    from patient_ladle.service.extracts.models import Extract
    from patient_ladle.service.ledger.models import Run
    from patient_ladle.service.runs.services import start_run

    extract = Extract.objects.get(name="from_wide")
    first = start_run(repository, {"extract": extract.name})
    like = {field.attname: getattr(first, field.attname) for field in Run._meta.concrete_fields if not field.primary_key}
    drawn = random.Random(7)
    began = datetime(2026, 3, 2, tzinfo=timezone.utc)
    for _ in range(299):
        ended = drawn.choice([None, *(began + timedelta(seconds=n, microseconds=n) for n in (0, 1, 90_000))])
        like |= {
            "state": "cancelled" if ended else "queued", "ended_at": ended, "started_at": drawn.choice([None, began]),
            "rows": drawn.choice([None, 0, 0, 0, 7, 2**40]), "data_date": date(2026, 3, drawn.randint(1, 3)),
        }  # fmt: skip
        Run.objects.create(**like)
    return Run.objects.all()


def page_at(address, found, size, descending=False):
    """One page of the list of runs, and the addresses of those beside it."""
    from rest_framework.request import Request
    from rest_framework.test import APIRequestFactory

    from patient_ladle.service.common.sorting import SortedPages
    from patient_ladle.service.runs.listed import RUN_SORTS

    return SortedPages(Request(APIRequestFactory(SERVER_NAME="localhost").get(address)), RUN_SORTS, descending, size).page(
        found
    )


def pages_of(found, by, descending, size, back=False):
    """All pages, forwards, and then back from the last one."""
    address, pages, forwards = f"/runs?sort={by}", [], True
    while address:
        rows, links = page_at(address, found, size, descending)
        assert len(rows) <= size
        pages.append([row.pk for row in rows])
        forwards = forwards and links["next"] is not None
        address = links["previous" if back and not forwards else "next"]
    return pages


@pytest.mark.parametrize("by", ["id", "data_date", "rows", "took", "state"])
def test_pages_in_any_order_hold_each_run_once_and_in_it(many, by):
    from patient_ladle.service.runs.api import RunLine, lines_of_runs

    lines = [dict(line) for line in RunLine(lines_of_runs(), many=True).data]
    for descending in (False, True):
        expected = sorted(lines, key=lambda line: (OF_RUNS[by](line), line["id"]), reverse=descending)
        for size in (1, 7, 50, 200) if by == "rows" else (50,):
            pages = pages_of(many, by, descending, size)
            assert [number for page in pages for number in page] == [line["id"] for line in expected]
        there_and_back = pages_of(many, by, descending, 50, back=True)
        assert there_and_back == [*pages_of(many, by, descending, 50), *pages_of(many, by, descending, 50)[-2::-1]]


def test_a_page_begins_where_the_last_ended_whatever_came_or_went(many):
    """Runs that end between two looks move in the order; the others are shown once."""
    address, seen = "/runs?sort=rows", []
    moved = set(many.filter(rows=None).values_list("pk", flat=True)[:20])
    while address:
        rows, links = page_at(address, many, 40, descending=True)
        seen += [row.pk for row in rows]
        address = links["next"]
        many.filter(pk__in=moved).update(rows=2**40)
        many.filter(pk=seen[0]).delete()
    left = [number for number in seen[1:] if number not in moved]
    assert sorted(left) == sorted(set(many.values_list("pk", flat=True)) - moved | {*seen[1:]} - moved)
    assert len(left) == len(set(left))


@pytest.mark.parametrize(
    "cursor", ["", "nonsense", "é", "bnVsbA==", "W10=", "WyJyb3dzIEZhbHNlIixmYWxzZSwiMjAyNi0wMy0wMiIsMV0=",
               "WyJyb3dzIEZhbHNlIixmYWxzZSw5OTk5OTk5OTk5OTk5OTk5OTk5OTk5LDFd", "WyJpZCBGYWxzZSIsZmFsc2UsMSwxXQ=="],
)  # fmt: skip
def test_a_cursor_that_no_answer_gave_is_refused(many, cursor):
    with pytest.raises(BadInput, match="not one that an answer gave"):
        page_at(f"/runs?{urlencode({'sort': 'rows', 'cursor': cursor})}", many, 10)


@pytest.fixture(scope="module")
def busy(service):
    """Runs of every kind of end, of a schedule and of people, in two environments."""
    with service.ladle("author") as ladle:
        for environment in ("live", "rehearsal"):
            ladle.runs.wait(ladle.runs.start("district_use", environment=environment)["id"])
        ladle.runs.wait(ladle.runs.start("samples")["id"])
        broken = ladle.runs.start("broken")["id"]
        until(lambda: ladle.runs.get(broken)["state"] == "failed")
        for name, extract in (("listed-well", "samples"), ("listed-broken", "broken"), ("listed-never", "samples")):
            ladle.schedules.add(name, extract, "live", "daily at 05:00", zone="UTC", attempts=1)
        ladle.schedules.pause("listed-never", "being tried")
        for name in ("listed-well", "listed-broken"):
            [run] = ladle.schedules.run(name)["runs"]
            until(lambda run=run: ladle.runs.get(run)["state"] in ("finished", "failed"))
    return service


def test_runs_are_narrowed_by_all_that_is_asked_at_once(busy):
    with busy.ladle("reader") as ladle:
        now = max(moment(run["queued_at"]) for run in ladle.runs.list()) + timedelta(microseconds=1)
        everything = list(ladle.runs.list(until=now.isoformat()))
        middle = moment(everything[len(everything) // 2]["queued_at"])
        filters = {
            "search": {"regul": lambda r: "regul" in r["extract"] + r["folder"],
                       "tests BROK": lambda r: "tests" in r["folder"] and "brok" in r["extract"]},
            "environment": {"rehearsal": lambda r: r["environment"] == "rehearsal"},
            "schedule": {"listed-well": lambda r: r["schedule"] == "listed-well"},
            "state": {"failed": lambda r: r["state"] == "failed", "empty": lambda r: r["empty"]},
            "since": {middle.isoformat(): lambda r: moment(r["queued_at"]) >= middle},
        }  # fmt: skip
        drawn = random.Random(3)
        for _ in range(40):
            chosen = {name: drawn.choice(list(filters[name])) for name in drawn.sample(sorted(filters), drawn.randint(1, 3))}
            by, descending = drawn.choice(sorted(OF_RUNS)), drawn.random() < 0.5
            expected = [run for run in everything if all(filters[name][value](run) for name, value in chosen.items())]
            expected.sort(key=lambda run: (OF_RUNS[by](run), run["id"]), reverse=descending)
            found = ladle.runs.list(
                until=now.isoformat(), sort=by, descending=str(descending).lower(), page_size=drawn.choice([1, 200]), **chosen
            )
            assert [run["id"] for run in found] == [run["id"] for run in expected], (chosen, by)


def test_result_files_are_narrowed_and_sorted(busy):
    with busy.ladle("reader") as ladle:
        everything = list(ladle.runs.results())
        assert {f["environment"] for f in everything} == {"live", "rehearsal"}
        for wanted, fits in (
            ({"search": "regul"}, lambda f: f["extract"] == "district_use"),
            ({"search": "samples"}, lambda f: "samples" in f["extract"] + f["name"]),
            ({"environment": "rehearsal", "format": "csv"}, lambda f: (f["environment"], f["format"]) == ("rehearsal", "csv")),
        ):
            expected = sorted((f["bytes"], f["run"], f["name"]) for f in everything if fits(f))
            found = [(f["bytes"], f["run"], f["name"]) for f in ladle.runs.results(sort="bytes", **wanted)]
            assert sorted(found) == expected != []
            assert [size for size, *_ in found] == [size for size, *_ in expected]


def test_schedules_show_how_they_did_last_and_are_narrowed_by_it(busy):
    with busy.ladle("reader") as ladle:
        lines = {s["name"]: s for s in ladle.schedules.list("listed-")}
        assert [(name, s["last_run"] and s["last_run"]["state"], bool(s["problem"])) for name, s in sorted(lines.items())] == [
            ("listed-broken", "failed", True), ("listed-never", None, False), ("listed-well", "finished", False),
        ]  # fmt: skip
        assert "nmae" not in lines["listed-broken"]["problem"], "a reader is told in general words"
        for state, names in (
            ("failed", ["listed-broken"]), ("finished", ["listed-well"]), ("paused", ["listed-never"]),
            ("active", ["listed-broken", "listed-well"]), ("held", []),
        ):  # fmt: skip
            assert [s["name"] for s in ladle.schedules.list("listed-", state=state)] == names
        assert list(ladle.schedules.list("listed-", environment="rehearsal")) == []
        by_last = [s["name"] for s in ladle.schedules.list("listed-", sort="last_due", descending="true")]
        assert by_last == ["listed-broken", "listed-well", "listed-never"]


def test_lists_are_asked_for_from_the_command_line(busy):
    listed = busy.command("run", "list", "--search", "tests broken", "--sort", "took", "--descending", "--state", "failed")
    assert listed.returncode == 0
    assert {line.split()[1] for line in listed.stdout.splitlines()[1:]} == {"broken"}
    found = busy.command("schedule", "list", "--search", "listed-", "--state", "paused").stdout
    assert "listed-never" in found
    assert "listed-well" not in found
    files = busy.command("result", "list", "--env", "rehearsal", "--format", "json", "--sort", "rows").stdout
    assert files.splitlines()[1].split()[1] == "district_use"
    refused = busy.command("run", "list", "--descending")
    assert (refused.returncode, "--descending was given without --sort" in refused.stderr) == (2, True)
    wrong = busy.command("schedule", "list", "--state", "pausd")
    assert (wrong.returncode, "Did you mean 'paused'?" in wrong.stderr) == (2, True)


def test_the_long_list_of_extracts_says_what_its_fields_say(many, repository):
    """It is put together by hand, because asking each field takes longer than all else."""
    from rest_framework import serializers

    from patient_ladle.service.extracts.models import Extract, Mark
    from patient_ladle.service.extracts.searching import listed, marks_of
    from patient_ladle.service.runs.glance import glances
    from patient_ladle.service.runs.repository_api import ExtractLine

    Mark.objects.update_or_create(
        person=repository, extract=Extract.objects.get(name="from_narrow"), defaults={"favourite": True}
    )
    extracts = listed(Extract.objects.filter(name__in=["from_narrow", "from_wide"]).order_by("name"))
    lines = glances(extracts, marks_of(repository, extracts))
    assert [line.last_run is None for line in lines] == [True, False]
    by_fields = [serializers.Serializer.to_representation(ExtractLine(), line) for line in lines]
    assert [list(line.items()) for line in ExtractLine(lines, many=True).data] == [list(line.items()) for line in by_fields]


def test_what_a_million_runs_are_sorted_by_is_found_by_an_index(many):
    from django.db import connection

    from patient_ladle.service.common.sorting import KEY
    from patient_ladle.service.runs.listed import RUN_SORTS

    with connection.cursor() as cursor:
        cursor.execute("set enable_seqscan = off")
        cursor.execute("set enable_sort = off")
        try:
            plans = {
                by: many.annotate(**{KEY: RUN_SORTS[by]}).order_by(f"-{KEY}", "-pk")[:51].explain()
                for by in ("id", "data_date", "rows", "took")
            }
        finally:
            cursor.execute("reset enable_seqscan")
            cursor.execute("reset enable_sort")
    found = {by: plan.split("using ")[1].split(" on ")[0] for by, plan in plans.items()}
    assert found == {"id": "runs_run_pkey", "data_date": "runs_by_data_date", "rows": "runs_by_rows", "took": "runs_by_length"}
    assert not any("Sort" in plan for plan in plans.values())
