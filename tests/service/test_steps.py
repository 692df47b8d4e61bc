"""Steps through the service: saved, previewed, run, proven, guarded; from the client and the command line."""

from __future__ import annotations

import csv
import io
import json
from collections import defaultdict
from decimal import Decimal

import openpyxl
import psycopg
import pytest

from patient_ladle.client import CallFailed, QueryFailed
from tests.command import PATIENCE

READINGS = "select district_id, read_at, litres, estimated from readings where reading_id <= :most order by reading_id"
MOST = {"name": "most", "type": "integer", "default": 500}
SHARES = [
    {"step": "filter", "name": "real ones", "where": "not estimated"},
    {"step": "group", "by": ["district_id"], "columns": {"readings": "count(*)", "litres": "sum(litres)"}},
    {"step": "look_up", "name": "names", "lookup": "step_districts", "on": {"district_id": "id"}, "columns": {"district": "title"}},
    {"step": "share_of_total", "of": "litres", "column": "share"},
    {"step": "sort", "order": [{"column": "litres", "descending": True}]},
    {"step": "drop", "columns": ["district_id"]},
]  # fmt: skip


@pytest.fixture(scope="module")
def author(service):
    with service.ladle("author") as ladle:
        ladle.lookups.add("step_districts", text="id,title\n1,Moor\n2,Fen\n")
        yield ladle


def reckoned(cluster, most=500):
    """Names, readings, litres and shares, the largest first, by hand."""
    with psycopg.connect(cluster.url("metering")) as connection:
        rows = connection.execute(
            "select district_id, litres, estimated from readings where reading_id <= %s", [most]
        ).fetchall()
    counts, sums = defaultdict(int), defaultdict(Decimal)
    for district, litres, estimated in rows:
        if not estimated:
            counts[district], sums[district] = counts[district] + 1, sums[district] + litres
    order = sorted(sums, key=lambda d: -sums[d])
    whole = float(sum(sums.values()))
    return [(str(counts[d]), str(sums[d]), {1: "Moor", 2: "Fen"}.get(d, ""), float(sums[d]) / whole) for d in order]


def read(ladle, run, name):
    return b"".join(ladle.runs.read(run["id"], name))


def file_of(run, form):
    return next(file["name"] for file in run["files"] if file["format"] == form)


def test_a_result_goes_through_its_steps_into_every_format(author, cluster):
    author.extracts.add("shares", "metering", READINGS, parameters=[MOST], steps=SHARES, formats=["csv", "xlsx", "json"])
    run = author.runs.wait(author.runs.start("shares")["id"], PATIENCE)
    wanted = reckoned(cluster)
    rows = list(csv.reader(io.StringIO(read(author, run, file_of(run, "csv")).decode())))
    assert rows[0] == ["readings", "litres", "district", "share"]
    assert [(n, s, d, float(share)) for n, s, d, share in rows[1:]] == wanted
    sheet = openpyxl.load_workbook(io.BytesIO(read(author, run, file_of(run, "xlsx")))).active.iter_rows(values_only=True)
    assert [row[0] for row in sheet][1:] == [int(row[0]) for row in wanted]
    assert [each["district"] for each in json.loads(read(author, run, file_of(run, "json")))] == [
        row[2] or None for row in wanted
    ]
    assert run["rows"] == len(wanted)
    assert author.runs.dry_run("shares")["code"]["driver"].startswith("# the rows before the steps")


def test_what_every_step_did_is_told_in_the_run_its_log_and_its_descriptor(author):
    run = author.runs.get(next(author.runs.list(extract="shares"))["id"])
    [statement] = run["statements"]
    steps = {step["step"]: step for step in statement["steps"]}
    assert statement["fetched"] == 500 == steps["filter"]["rows_in"]
    assert steps["filter"]["rows_out"] == steps["group"]["rows_in"] == sum(map(int, (r[0] for r in _rows(author, run))))
    assert (steps["look_up"]["rows_in"], steps["look_up"]["rows_out"], steps["look_up"]["unmatched"]) == (3, 3, 1)
    texts = [line["text"] for line in author.runs.log(run["id"])]
    assert "step 3 (names): 3 rows in, 3 out, 1 without a match" in texts
    described = json.loads(read(author, run, "datapackage.json"))["ladle"]
    assert described["shaped"][0]["steps"] == statement["steps"]
    assert described["lookups"] == [{"name": "step_districts", "revision": 1}]
    assert "steps" not in described, "a file travels to those who may not see the steps"


def _rows(author, run):
    return list(csv.reader(io.StringIO(read(author, run, file_of(run, "csv")).decode())))[1:]


def test_a_preview_shows_any_point_of_the_chain_and_where_rows_go(author):
    def preview(count, **more):
        query = author.extracts.start_preview(
            "metering", "live", READINGS, parameters=[MOST], values={"most": 40}, steps=SHARES[:count] or None, **more
        )
        return author.sources.wait_for_query(query)["result"]

    assert len(preview(0)["rows"]) == 40
    found = preview(2, rows=2)
    assert [column["name"] for column in found["columns"]] == ["district_id", "readings", "litres"]
    assert (len(found["rows"]), found["complete"], found["shaped"]["fetched"]) == (2, False, 40)
    assert [(step["rows_in"], step["rows_out"]) for step in found["shaped"]["steps"]] == [(40, 39), (39, 3)]
    assert preview(2, total=True)["rows"] == [["3"]]
    with pytest.raises(QueryFailed, match="step 7, column: there is a column 'litres' already"):
        query = author.extracts.start_preview(
            "metering", "live", READINGS, parameters=[MOST], steps=[*SHARES, {"step": "compute", "column": "litres", "as": "1"}]
        )
        author.sources.wait_for_query(query)


def test_steps_are_checked_against_columns_without_reading_a_row(author):
    columns = [
        {"name": "district_id", "kind": "integer"},
        {"name": "litres", "kind": "decimal"},
        {"name": "estimated", "kind": "boolean"},
    ]
    found = author.extracts.check_steps(SHARES, columns)
    assert found["error"] is None
    assert [each["words"] for each in found["steps"]][:2] == [
        "keep rows where not estimated", "group by district_id: readings = count(*), litres = sum(litres)",
    ]  # fmt: skip
    assert [c["name"] for c in found["steps"][3]["columns"]] == ["district_id", "readings", "litres", "district", "share"]
    found = author.extracts.check_steps([SHARES[0], {"step": "sort", "order": ["liters"]}, SHARES[3]], columns)
    assert found["error"]["where"] == "steps[1].order[0]"
    assert "'litres'" in found["error"]["hint"]
    assert [each["columns"] is None for each in found["steps"]] == [False, True, True]
    found = author.extracts.check_steps([{"step": "sort", "order": ["whatever"]}], [])  # nobody knows the columns
    assert (found["error"], found["steps"][0]["words"]) == (None, "sort by whatever")
    with pytest.raises(CallFailed, match="is not a column"):
        author.extracts.check_steps(SHARES, [{"name": "x", "kind": "whatever"}])


@pytest.mark.parametrize(
    ("steps", "said"),
    [
        ([{"step": "fliter"}], "Did you mean 'filter'"),
        ([{"step": "filter", "where": "read_csv('/etc/passwd')"}], "no function"),
        ([{"step": "filter", "where": "litres > :nowhere"}], ":nowhere"),
        (
            [{"step": "look_up", "lookup": "step_distrcts", "on": {"a": "b"}, "columns": {"a": "b"}}],
            "Did you mean 'step_districts'",
        ),
    ],
)
def test_steps_that_cannot_be_are_not_saved(author, steps, said):
    with pytest.raises(CallFailed) as caught:
        author.extracts.add("never_saved", "metering", READINGS, parameters=[MOST], steps=steps)
    assert said in str(caught.value)
    assert "never_saved" not in [each["name"] for each in author.extracts.list()]


def test_steps_are_part_of_a_revision_and_of_what_differs(author):
    author.extracts.add("shaped_twice", "metering", READINGS, parameters=[MOST], steps=SHARES[:1])
    saved = author.extracts.save("shaped_twice", steps=[*SHARES[:1], SHARES[4] | {"off": True}])
    assert saved["revision"]["steps_in_words"] == ["keep rows where not estimated", "sort by litres, descending"]
    assert "steps" in {each["field"] for each in author.extracts.differences("shaped_twice", 1, 2)["settings"]}
    assert author.extracts.save("shaped_twice", notes="words")["revision"]["steps"] == saved["revision"]["steps"]
    run = author.runs.wait(author.runs.start("shaped_twice", formats=["csv"])["id"], PATIENCE)
    assert [step["number"] for step in run["statements"][0]["steps"]] == [1]  # the other is off


def test_a_step_belongs_to_one_of_several_statements(author):
    both = "-- readings\nselect district_id, litres from readings where reading_id <= 9;\n-- districts\nselect name from districts order by 1"
    steps = [{"step": "filter", "where": "name like 'B%'", "statement": 2}]
    author.extracts.add("two_shaped", "metering", both, steps=steps, formats=["csv"])
    run = author.runs.wait(author.runs.start("two_shaped")["id"], PATIENCE)
    assert [each["rows"] for each in run["statements"]] == [9, 1]
    assert "steps" not in run["statements"][0]
    assert run["statements"][1]["fetched"] == 3


def test_a_guard_stands_on_a_step_and_on_a_lookup(author):
    guards = [
        {"guard": "all_found", "step": "names", "then": "hold"}, {"guard": "same_rows", "step": "1", "then": "warn"},
        {"guard": "step_rows", "step": "2", "at_least": 1}, {"guard": "in_lookup", "columns": ["district"], "lookup": "step_titles", "then": "warn"},
    ]  # fmt: skip
    author.lookups.add("step_titles", text="title\nMoor\n")
    author.extracts.add("guarded_steps", "metering", READINGS, parameters=[MOST], steps=SHARES, guards=guards, formats=["csv"])
    run = author.runs.wait(author.runs.start("guarded_steps", publish=True)["id"], PATIENCE)
    texts = sorted(each["text"] for each in run["findings"])
    assert run["held"] == "held"
    assert texts[0].startswith("a match for each row in step 'names': 1 have none")
    assert texts[1].startswith("as many rows after step 1 as before: 500 before,")
    assert texts[2].startswith("district in the lookup step_titles: 1 are not, 'Fen' in row ")
    assert len(texts) == 3
    for wrong in (
        {"guard": "all_found", "step": "nams"},
        {"guard": "in_lookup", "columns": ["a", "b"], "lookup": "step_titles"},
    ):
        with pytest.raises(CallFailed):
            author.extracts.save("guarded_steps", guards=[wrong])


def test_a_lookup_that_changes_between_runs_is_told_by_its_revision(author):
    author.lookups.put("step_districts", {"id": 3, "title": "Holt"}, change_note="it was missing")
    run = author.runs.wait(author.runs.start("shares")["id"], PATIENCE)
    assert [row[2] for row in _rows(author, run)].count("") == 0
    assert json.loads(read(author, run, "datapackage.json"))["ladle"]["lookups"] == [{"name": "step_districts", "revision": 2}]
    assert author.lookups.get("step_districts")["used_by"] == ["guarded_steps", "shares"]
    with pytest.raises(CallFailed, match="is used by guarded_steps, shares"):
        author.lookups.archive("step_districts")


def test_values_that_say_themselves_what_they_are_go_through_steps(author):
    """As SQLite's do: the columns have no types of their own."""
    statement = "select 'a' as code, 3 as n union all select 'b', 4.5 union all select null, null"
    steps = [
        {"step": "compute", "column": "double", "as": "n * 2"},
        {"step": "fill_nulls", "columns": ["code"], "value": "none"},
    ]
    author.extracts.add("of_values", "laboratory", statement, steps=steps, formats=["csv"])
    run = author.runs.wait(author.runs.start("of_values")["id"], PATIENCE)
    assert _rows(author, run) == [["a", "3", "6"], ["b", "4.5", "9"], ["none", "", ""]]


def test_steps_from_the_command_line(service, author, tmp_path):
    steps = tmp_path / "steps.toml"
    steps.write_text(
        '[[steps]]\nstep = "filter"\nwhere = "district_id = 1"\n\n[[steps]]\nstep = "first_rows"\nrows = 2\norder = ["litres"]\n'
    )
    (tmp_path / "q.sql").write_text("select district_id, litres from readings where reading_id < 100")
    words = ["--statement", str(tmp_path / "q.sql"), "--source", "metering", "--steps", str(steps)]
    done = service.command("extract", "preview", *words, name="author")
    assert done.returncode == 0, done.stderr
    assert "99 rows fetched" in done.stdout
    assert "first rows" in done.stdout
    assert "33" in service.command("extract", "preview", *words, "--until", "1", "--total", name="author").stdout
    done = service.command("run", "start", *words, "--formats", "csv", "--into", "-", name="author")
    assert done.stdout.count("\n") == 3, done.stderr
    done = service.command("extract", "save", "from_toml", *words, name="author")
    assert done.returncode == 0, done.stderr
    assert (
        "2. keep the first 2 rows in the order of litres"
        in service.command("extract", "show", "from_toml", name="author").stdout
    )
    shown = service.command("extract", "steps", "from_toml", name="author").stdout
    assert "no run of this revision has finished yet" in shown
    author.runs.wait(author.runs.start("from_toml")["id"], PATIENCE)
    rows = [
        line.split()[-2:] for line in service.command("extract", "steps", "from_toml", name="author").stdout.splitlines()[1:]
    ]
    assert rows == [["99", "33"], ["33", "2"]]
    assert json.loads(service.command("extract", "steps", "--schema", name="author").stdout)["title"] == "Steps on a result"
    steps.write_text("[[steps]\n")
    done = service.command("extract", "save", "from_toml", "--steps", str(steps), name="author")
    assert "is not TOML" in done.stderr
    service.command("extract", "save", "from_toml", "--steps", "none", name="author")
    assert author.extracts.get("from_toml")["revision"]["steps"] == []


def test_a_runner_runs_what_has_steps_and_does_not_see_them(service, author):
    with service.ladle("runner") as runner:
        revision = runner.extracts.get("shares")["revision"]
        assert (revision["steps"], revision["steps_in_words"]) == ([], [])
        assert runner.runs.wait(runner.runs.start("shares")["id"], PATIENCE)["state"] == "finished"
