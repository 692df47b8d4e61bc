"""Looking deeper through the service: profiles of columns, plans, small files of some rows, counts with gaps, one search."""

from __future__ import annotations

import io
import json
import sqlite3
from collections import Counter

import httpx
import openpyxl
import psycopg
import pytest

from patient_ladle.client import CallFailed, QueryFailed
from tests.command import PATIENCE


@pytest.fixture(scope="module")
def author(service):
    """An author's client, with the tables of ``metering`` looked at, and a table of odd values beside them."""
    with service.ladle("author") as ladle:
        ladle.sources.run_query("metering", "live", "catalogue")
        yield ladle


@pytest.fixture(scope="module")
def run(author):
    """A finished run with a file of each kind."""
    author.extracts.add("looked_into", "metering", STATEMENTS, formats=["csv", "xlsx"], folder="looking/deeper")
    return author.runs.wait(author.runs.start("looked_into")["id"], PATIENCE)


STATEMENTS = """-- by district
select district_id, litres, read_at, nullif(litres, 7) as perhaps from readings where district_id < 4 order by 1, 3;
-- names
select district_id, name, '=1+1' as formula from districts order by 1"""


def rows_of(cluster, query):
    with psycopg.connect(cluster.url("metering")) as connection:
        return connection.execute(query).fetchall()


def test_a_column_of_a_table_is_told_of_all_rows_that_pass_the_filters(author, cluster):
    filters = [{"column": "district_id", "test": "less", "value": "3"}]
    found = author.sources.run_query("metering", "live", "profile", table="readings", column="litres", filters=filters)
    profile, values = (
        found["result"]["profile"],
        [n for (n,) in rows_of(cluster, "select litres from readings where district_id < 3")],
    )
    assert (profile["rows"], profile["absent"], profile["distinct"]) == (len(values), 0, len(set(values)))
    assert (profile["least"], profile["greatest"]) == (str(min(values)), str(max(values)))
    assert dict(profile["commonest"]) == {str(v): n for v, n in Counter(values).items() if [str(v), n] in profile["commonest"]}
    assert sum(bar["rows"] for bar in profile["bars"]) == len(values)
    assert found["active_filters"] == ["district_id less 3"]
    assert found["result"]["identity"]["login"] == "reader"
    assert "-- litres at a glance\nselect count(*) as row_count" in found["result"]["statement"]
    parts = author.extracts.diagnose("metering", "live", found["result"]["statement"], [])["statements"]
    assert parts[0]["title"] == "litres at a glance"


def test_a_runner_looks_and_is_not_told_by_which_login(author, service):
    with service.ladle("runner") as ladle:
        found = ladle.sources.run_query("metering", "live", "profile", table="districts", column="name")
        assert (found["result"]["profile"]["distinct"], "identity" in found["result"]) == (3, False)
        with pytest.raises(CallFailed, match="needs author"):
            ladle.extracts.start_preview("metering", "live", "select 1", plan=True)
    with service.ladle("reader") as ladle, pytest.raises(CallFailed, match="needs runner"):
        ladle.sources.start_query("metering", "live", "profile", table="districts", column="name")


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ({"column": "litrs"}, "Did you mean 'litres'?"),
        ({"column": ""}, "may not be blank"),
        ({"column": "litres", "filters": [{"column": "litres", "test": "is", "value": "many"}]}, "many"),
        ({"column": "litres", "table": "reading"}, "Did you mean 'readings'?"),
    ],
)
def test_a_wrong_profile_is_told_at_once(author, given, words):
    with pytest.raises(CallFailed) as refused:
        author.sources.start_query("metering", "live", "profile", **{"table": "readings"} | given)
    assert words in f"{refused.value} {refused.value.hint}"


def previewed(ladle, statement, **more):
    return ladle.sources.wait_for_query(ladle.extracts.start_preview("metering", "live", statement, **more))


def test_rows_at_hand_have_a_profile_and_become_a_small_file(author, service):
    found = previewed(author, "select g as n, case when g > 2 then '=' || g end as t from generate_series(1, 5) g", rows=4)
    told = author.sources.query_profile(found["id"], "t")
    assert (told["rows"], told["absent"], told["complete"], told["least"]) == (4, 2, False, "=3")
    assert author.sources.query_file(found["id"], "csv", rows=[3, 0]) == b"n,t\n4,=4\n1,\n"
    guarded = author.sources.query_file(found["id"], "csv", rows=[2], columns=[1], escape_formulas=True)
    assert guarded == b"t\n'=3\n"
    book = openpyxl.load_workbook(io.BytesIO(author.sources.query_file(found["id"], "xlsx", columns=[0])))
    assert [[cell.value for cell in row] for row in book.active.rows] == [["n"], [1], [2], [3], [4]]
    assert json.loads(author.sources.query_file(found["id"], "json", rows=[0])) == [{"n": 1, "t": None}]
    for given, words in (
        ({"rows": [4]}, "there is no row 4: there are 4, from 0"),
        ({"columns": [2]}, "there is no column 2"),
        ({"rows": []}, "no rows were named"),
        ({"form": "docx"}, "there is no format 'docx'"),
    ):
        with pytest.raises(CallFailed) as refused:
            author.sources.query_file(found["id"], **{"form": "csv"} | given)
        assert words in str(refused.value)
    with pytest.raises(CallFailed, match="there is no column 'x'"):
        author.sources.query_profile(found["id"], "x")
    with service.ladle("runner") as other, pytest.raises(CallFailed, match="there is no such query"):
        other.sources.query_file(found["id"], "csv")


def test_a_long_value_is_whole_in_the_file_and_one_that_is_not_kept_is_refused_by_its_name(author):
    found = previewed(author, "select repeat('x', 5000) as long, repeat('y', 700000) as huge")
    assert author.sources.query_file(found["id"], "csv", columns=[0]) == b"long\n" + b"x" * 5000 + b"\n"
    with pytest.raises(CallFailed, match="the value of huge in row 1 is too large"):
        author.sources.query_file(found["id"], "csv")


def test_a_plan_is_told_in_words_and_the_statement_is_not_run(author):
    found = previewed(author, "select count(*) from generate_series(1, 100000000000) g where g > :n", plan=True,
                      parameters=[{"name": "n", "type": "integer", "default": 3}])  # fmt: skip
    plan = found["result"]["plan"]
    assert found["kind"] == "plan"
    assert [step["own"] for step in plan["steps"]] == ["Function Scan", "Aggregate"]
    assert plan["cost"] > 0
    assert "Function Scan" in plan["text"]
    secret = [{"name": "word", "type": "text", "sensitive": True}]
    hidden = previewed(author, "select name from districts where lower(name) = lower(:word)", plan=True, parameters=secret,
                       values={"word": "Heron-7311"})  # fmt: skip
    assert "7311" not in json.dumps(hidden).lower()
    assert "lower" in hidden["result"]["plan"]["text"]
    with pytest.raises(QueryFailed, match="district_name"):
        previewed(author, "select district_name from districts", plan=True)
    with pytest.raises(CallFailed, match="at once"):
        author.extracts.start_preview("metering", "live", "select 1", plan=True, total=True)


def test_counts_by_a_period_have_the_periods_without_rows(author, service, home):
    path = home / "visits.db"
    with sqlite3.connect(path) as connection:
        connection.execute("create table visits (day date)")
        connection.executemany("insert into visits values (?)", [("2026-01-30",), ("2026-02-02",), ("2026-02-02",), (None,)])
    connection.close()
    with service.ladle() as ladle:
        ladle.sources.add("visits", "sqlite", {"live": {"address": {"path": str(path)}}})
    author.sources.run_query("visits", "live", "catalogue")
    look = {"table": "visits", "column": "day"}
    by_day = author.sources.run_query("visits", "live", "counts", **look, period="day")["result"]
    assert by_day["rows"] == [
        [None, "1"], ["2026-01-30", "1"], ["2026-01-31", "0"], ["2026-02-01", "0"], ["2026-02-02", "2"],
    ]  # fmt: skip
    assert by_day["notes"][-1] == "2 days without rows between the others"
    cut = author.sources.run_query("visits", "live", "counts", **look, period="day", rows=2)["result"]
    assert (len(cut["rows"]), cut["complete"]) == (2, False)  # of what is cut off nobody knows the gaps
    by_month = author.sources.run_query("visits", "live", "counts", **look, period="month")["result"]
    assert [row[1] for row in by_month["rows"]] == ["1", "1", "2"]
    assert author.sources.run_query("visits", "live", "counts", **look)["result"]["rows"][0] == ["2026-02-02", "2"]


def test_a_column_of_a_stored_file_is_told_of_all_its_rows(author, run, service):
    csv = next(file["name"] for file in run["files"] if file["name"].endswith(".csv"))
    book = next(file["name"] for file in run["files"] if file["format"] == "xlsx")
    told = author.runs.profile_file(run["id"], csv, "perhaps")
    again = author.runs.profile_file(run["id"], book, "perhaps", "by district")
    assert told["rows"] == run["statements"][0]["rows"]
    assert (told["kind"], told["complete"], told["bars_by"]) == ("decimal", True, "number")
    numbers = ("rows", "absent", "distinct", "mean", "bars")  # a workbook's numbers have no places after the point
    assert [told[key] for key in numbers] == [again[key] for key in numbers]
    names = author.runs.profile_file(run["id"], book, "name", "names")
    assert (names["rows"], names["distinct"], names["bars"]) == (3, 3, [])
    days = author.runs.profile_file(run["id"], csv, "read_at")
    assert days["bars_by"] == "day"
    with service.ladle("reader") as ladle:
        assert ladle.runs.profile_file(run["id"], csv, "litres")["rows"] == told["rows"]
    for name, column, words in ((csv, "litrs", "Did you mean 'litres'?"), ("other.csv", "litres", "there is no file of run")):
        with pytest.raises(CallFailed) as refused:
            author.runs.profile_file(run["id"], name, column)
        assert words in f"{refused.value} {refused.value.hint}"


def test_one_search_finds_whatever_has_a_name(author, run, service):
    found = author.find("looked_into")
    kinds = [each["kind"] for each in found]
    assert kinds[0] == "extract"
    assert {"run", "result"} <= set(kinds)
    assert next(each for each in found if each["kind"] == "run")["link"] == f"/runs/{run['id']}"
    assert author.find("looking/deeper")[0]["name"] == "looked_into"
    assert author.find(f"{run['id']}")[0] == author.find(str(run["id"]), 1)[0]
    assert author.find(f"{run['id']}")[0]["name"] == f"run {run['id']}"
    tables = author.find("readings")
    assert ("table", "readings", "metering") in [(each["kind"], each["name"], each["within"]) for each in tables]
    assert "/sources/metering?environment=live&table=readings" in [each["link"] for each in tables]
    assert ("column", "litres") in [(each["kind"], each["name"]) for each in author.find("litres")]
    assert ("column", "litres") in [(each["kind"], each["name"]) for each in author.find("readings litres")]
    assert author.find("metering", 1) == [found for found in author.find("metering") if found["kind"] == "source"][:1]
    for nothing in ("", "  ", "%", "no such thing at all"):
        assert author.find(nothing) == []
    with service.ladle("reader") as ladle:
        assert {each["kind"] for each in ladle.find("readings")} <= {"extract", "run", "result", "schedule"}
    assert httpx.get(f"{service.url}/api/v1/find?text=a", timeout=PATIENCE).status_code == 401


def test_what_is_archived_comes_last_and_a_held_file_is_not_found_by_readers(author, service):
    for name in ("sought_a", "sought_b"):
        author.extracts.add(name, "metering", "select 1 as n", formats=["csv"])
    author.extracts.archive("sought_a")
    assert [each["name"] for each in author.find("sought") if each["kind"] == "extract"] == ["sought_b", "sought_a"]
    author.extracts.save("sought_b", 1, guards=[{"guard": "rows", "at_least": 5}])
    held = author.runs.wait(author.runs.start("sought_b")["id"], PATIENCE)
    assert held["held"] == "held"
    assert [each["detail"] for each in author.find("sought_b") if each["kind"] == "result"]
    with service.ladle("reader") as ladle:
        assert [each for each in ladle.find("sought_b") if each["kind"] == "result"] == []


def test_what_was_removed_or_never_saved_is_not_found(author):
    author.extracts.add("tidied_away", "metering", "select 1 as n")
    author.schedules.add("tidied-weekly", "tidied_away", "live", "every monday 05:00")
    assert "schedule" in [each["kind"] for each in author.find("tidied")]
    author.schedules.remove("tidied-weekly")
    assert [each["kind"] for each in author.find("tidied")] == ["extract"]
    run = author.runs.start_unsaved("metering", statement="select 2 as never_saved", formats=["csv"])
    author.runs.wait(run["id"], PATIENCE)
    assert [each for each in author.find(run["extract"]) if each["kind"] == "extract"] == []


def test_the_command_line_looks_deeper_and_finds(author, run, service):
    profile = service.command("source", "browse", "metering", "districts", "--profile", "name", "--where", "name contains e")
    assert (profile.returncode, "only where name contains e" in profile.stdout, "distinct" in profile.stdout) == (
        0,
        True,
        True,
    ), profile.stderr
    of_file = service.command("result", "preview", str(run["id"]), "--profile", "litres").stdout
    assert "column    litres (decimal)" in of_file
    assert "TO BELOW" in of_file
    of_preview = service.command("extract", "preview", "looked_into", "--profile", "district_id", "--json")
    assert json.loads(of_preview.stdout)["complete"] is False
    plan = service.command("extract", "preview", "looked_into", "--plan").stdout
    assert "the statement was not run." in plan
    assert "reads all of readings" in plan
    drawn = service.command("source", "browse", "metering", "readings", "--by", "read_at", "--period", "week").stdout
    assert "█" * 40 in drawn
    found = service.command("find", "looked_into")
    assert (found.returncode, "/extracts/looked_into" in found.stdout) == (0, True)
    nothing = service.command("find", "no such thing")
    assert (nothing.returncode, "nothing is called 'no such thing'" in nothing.stdout) == (1, True)
    for wrong in (("--plan", "--total"), ("--profile", "x", "--total")):
        refused = service.command("extract", "preview", "looked_into", *wrong)
        assert (refused.returncode, "do not go together" in refused.stderr) == (2, True)
