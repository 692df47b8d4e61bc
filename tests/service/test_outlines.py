"""Outlines through the service: kept beside the text, left behind by edits, compiled with the database's own word, counted."""

from __future__ import annotations

import json

import openpyxl
import psycopg
import pytest

from patient_ladle.client import CallFailed

OUTLINE = {
    "outline": 1,
    "from": {"table": "readings", "as": "r"},
    "with": [{"table": "districts", "as": "d", "on": [{"left": "r.district_id", "right": "d.district_id"}]}],
    "show": [{"column": "d.name"}, {"column": "r.litres", "aggregate": "sum", "name": "litres"}],
    "where": {"all": [{"column": "r.read_at", "test": "in_period", "value": "this month"}]},
    "grouped": [{"column": "d.name"}],
    "sorted": [{"by": "litres", "descending": True}],
}


@pytest.fixture(scope="module")
def author(service):
    """An author's client, with the tables of ``metering`` looked at."""
    with service.ladle("author") as ladle:
        ladle.sources.run_query("metering", "live", "catalogue")
        yield ladle


def test_an_outline_is_kept_with_its_revision_and_left_behind_by_an_edit(author):
    made = author.extracts.add("outline_kept", "metering", outline=OUTLINE)
    first = made["revision"]
    assert (first["outline"], made["outline_revision"]) == (OUTLINE, 1)
    assert first["statement"].startswith("select d.name, sum(r.litres) as litres\nfrom readings r\n")
    [parameter] = first["parameters"]
    assert (parameter["name"], parameter["type"], parameter["default"]) == ("read_at_period", "period", "this month")

    same = author.extracts.save("outline_kept", 1, notes="By district.")
    assert same["revision"]["outline"] == OUTLINE
    other = OUTLINE | {"where": {"all": [{"column": "r.litres", "test": "more", "value": 10}]}}
    edited = author.extracts.save("outline_kept", 2, outline=other)["revision"]
    assert "where r.litres > 10\n" in edited["statement"]
    assert edited["parameters"] == []  # what the outline had brought is gone with what said it

    by_hand = author.extracts.save("outline_kept", 3, statement="select name from districts")
    assert (by_hand["revision"]["outline"], by_hand["outline_revision"]) == (None, 3)
    back = author.extracts.restore("outline_kept", 3)
    assert (back["revision"]["outline"], back["outline_revision"]) == (edited["outline"], 5)
    assert author.extracts.copy("outline_kept", "outline_copied")["revision"]["outline"] == edited["outline"]


def test_declared_parameters_stay_and_a_changed_phrase_changes_the_default(author):
    by_zone = {"column": "d.zone", "value": {"parameter": "zone"}}
    outline = OUTLINE | {"where": {"all": [*OUTLINE["where"]["all"], by_zone]}}
    declared = [{"name": "zone", "note": "Which part.", "default": "North"}]
    made = author.extracts.add("outline_parameters", "metering", outline=outline, parameters=declared)["revision"]
    assert [p["name"] for p in made["parameters"]] == ["zone", "read_at_period"]
    period = OUTLINE["where"]["all"][0] | {"value": "last month"}
    changed = author.extracts.save("outline_parameters", outline=outline | {"where": {"all": [period, by_zone]}})["revision"]
    assert [(p["name"], p["default"], p["note"]) for p in changed["parameters"]] == [
        ("zone", "North", "Which part."), ("read_at_period", "last month", "said in the outline")
    ]  # fmt: skip


def test_what_cannot_be_saved_is_said_with_the_part(author):
    for content, field, words in (
        ({"outline": OUTLINE | {"first": 0}}, "outline", "first"),
        ({"outline": OUTLINE | {"show": [{"column": "d.nmae"}]}}, "outline", "did you mean 'name'"),
        ({"outline": OUTLINE, "statement": "select 1"}, "outline", "is not what the outline compiles to"),
        ({}, "statement", "neither a statement nor an outline"),
    ):
        with pytest.raises(CallFailed) as caught:
            author.extracts.add("outline_refused", "metering", **content)
        assert words in f"{caught.value.message} {caught.value.hint}".lower(), content
        assert caught.value.facts["field"] == field
    with pytest.raises(CallFailed) as caught:
        author.extracts.get("outline_refused")
    assert caught.value.code == "unknown_name"


def test_what_the_database_says_of_an_expression_stands_at_the_expression(author):
    shown = [{"column": "r.litres"}, {"expression": "no_such_function(r.litres)", "name": "x"}]
    outline = {"outline": 1, "from": OUTLINE["from"], "show": shown}
    made = author.outlines.compile("metering", "live", outline, ask=True)
    assert made["asked"]
    [remark] = made["remarks"]
    assert (remark["severity"], remark["where"], remark["part"]) == ("error", "show[1]", "show 2")
    assert "no_such_function" in remark["message"]
    silent = author.outlines.compile("metering", "live", outline)
    assert (silent["asked"], silent["remarks"]) == (False, [])


def test_a_table_that_has_vanished_since_is_said_by_the_catalogue_and_by_the_database(author, cluster):
    with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
        connection.execute("create table fleeting as select 1 as a")
        connection.execute("grant select on fleeting to reader")
    author.sources.run_query("metering", "live", "catalogue")
    outline = {"outline": 1, "from": {"table": "fleeting"}}
    assert author.outlines.compile("metering", "live", outline, ask=True)["remarks"] == []
    with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
        connection.execute("drop table fleeting")
    [stale] = author.outlines.compile("metering", "live", outline, ask=True)["remarks"]
    assert (stale["severity"], stale["where"], "fleeting" in stale["message"]) == ("error", "from", True)
    author.sources.run_query("metering", "live", "catalogue")
    [told] = author.outlines.compile("metering", "live", outline)["remarks"]
    assert (told["where"], "fleeting" in told["message"]) == ("from", True)


def test_a_table_joins_by_columns_of_one_name_where_there_is_no_key(author):
    [way] = author.outlines.joins("metering", "live", {"outline": 1, "from": {"table": "readings"}}, "districts")
    assert way == {"why": "equal_names", "joins": [
        {"table": "districts", "as": "d", "on": [{"left": "readings.district_id", "right": "d.district_id"}]}]}  # fmt: skip


def test_rows_are_counted_after_each_step(author):
    reverse = {"table": "readings", "as": "r", "on": [{"left": "d.district_id", "right": "r.district_id"}]}
    outline = {"outline": 1, "from": {"table": "districts", "as": "d"}, "with": [reverse],
               "where": {"all": [{"column": "r.estimated", "value": True}, {"column": "d.zone", "value": "North"}]}}  # fmt: skip
    told = author.outlines.counts("metering", "live", outline)
    query = author.extracts.start_preview("metering", "live", told["statement"], parameters=told["parameters"])
    [row] = author.sources.wait_for_query(query)["result"]["rows"]
    steps = {(step["where"], step["what"]): int(cell) for step, cell in zip(told["steps"], row, strict=True)}
    assert steps == {("from", "rows"): 3, ("with[0]", "rows"): 20_000, ("with[0]", "times"): 6_667,
                     ("where.all[0]", "rows"): 689, ("where.all[1]", "rows"): 229}  # fmt: skip


def test_a_statement_by_hand_is_read_back_or_it_is_said_why_not(author):
    found = author.outlines.read("metering", "live", "select name from districts where zone = 'North'")
    assert found["statement"] == "select name\nfrom districts\nwhere zone = 'North'"
    with pytest.raises(CallFailed, match="no place for a with clause"):
        author.outlines.read("metering", "live", "with x as (select 1) select * from x")


def test_only_authors_see_and_use_outlines(author, service):
    author.extracts.add("outline_seen", "metering", outline=OUTLINE)
    with service.ladle("runner") as runner:
        assert runner.extracts.get("outline_seen")["revision"]["outline"] in (None, {})
        for call in (runner.outlines.compile, runner.outlines.counts):
            with pytest.raises(CallFailed) as caught:
                call("metering", "live", OUTLINE)
            assert caught.value.code == "not_allowed"


def test_an_outline_from_the_command_line_to_a_workbook(service, author, tmp_path):
    def ladle(*words, code=0):
        done = service.command(*words, name="author")
        assert done.returncode == code, done.stdout + done.stderr
        return done

    started = json.loads(ladle("outline", "start", "metering", "readings", "districts").stdout)
    assert [join["table"] for join in started["with"]] == ["districts"]
    path = tmp_path / "outline_use.json"
    path.write_text(json.dumps(OUTLINE))
    compiled = ladle("outline", "compile", str(path), "--source", "metering")
    assert compiled.stdout.startswith("select d.name, sum(r.litres) as litres\n")
    counted = ladle("outline", "compile", str(path), "--source", "metering", "--counts", "--data-date", "2026-11-20")
    assert "with 1: districts  20,000" in counted.stdout
    ladle("extract", "save", "outline_use", "--source", "metering", "--outline", str(path), "--formats", "xlsx")
    assert json.loads(ladle("outline", "show", "outline_use").stdout) == OUTLINE
    assert "from an outline: ladle outline show outline_use" in ladle("extract", "show", "outline_use").stdout
    previewed = ladle("extract", "preview", "--outline", str(path), "--source", "metering", "--data-date", "2026-11-20")
    ran = ladle("run", "start", "outline_use", "--data-date", "2026-11-20", "--into", str(tmp_path))
    assert "3 rows" in ran.stdout
    assert "3 rows, all there are" in previewed.stdout
    sheet = openpyxl.load_workbook(tmp_path / "outline_use-2026-11-20.xlsx").worksheets[0]
    assert [cell.value for cell in sheet[1]] == ["name", "litres"]

    path.write_text(json.dumps(OUTLINE | {"show": [{"column": "d.nmae"}]}))
    wrong = ladle("outline", "compile", str(path), "--source", "metering", code=1)
    assert "error at show 1: 'districts' has no column 'nmae'. Did you mean 'name'?" in wrong.stderr
    ladle("extract", "save", "outline_use", "--outline", str(path), "--statement", str(path), code=2)
    (tmp_path / "by_hand.sql").write_text("select name from districts")
    ladle("extract", "save", "outline_use", "--statement", str(tmp_path / "by_hand.sql"))
    left = ladle("outline", "show", "outline_use")
    assert "from revision 1; the statement was edited by hand since" in left.stderr
    assert json.loads(ladle("outline", "read", "outline_use").stdout)["show"] == [{"column": "name"}]
    assert "$defs" in json.loads(ladle("outline", "schema").stdout)


def test_whole_tables_and_looks_become_extracts(service, author, tmp_path):
    done = service.command("extract", "save", "outline_registers", "--source", "metering", "--tables", "districts,readings",
                           "--formats", "xlsx", name="author")  # fmt: skip
    assert done.returncode == 0, done.stderr
    ran = service.command("run", "start", "outline_registers", "--into", str(tmp_path), name="author")
    assert ran.returncode == 0, ran.stderr
    [path] = tmp_path.glob("outline_registers-*.xlsx")
    assert openpyxl.load_workbook(path, read_only=True).sheetnames[:2] == ["districts", "readings"]

    look = ["source", "browse", "metering", "readings", "--where", "litres at least 499", "--sort", "read_at", "--columns",
            "read_at,litres", "--save", "outline_look", "--as-parameters"]  # fmt: skip
    assert "saved outline_look" in service.command(*look, name="author").stdout
    revision = author.extracts.get("outline_look")["revision"]
    assert revision["statement"] == "select read_at, litres\nfrom readings\nwhere litres >= :litres\norder by read_at"
    assert [(p["name"], p["default"]) for p in revision["parameters"]] == [("litres", "499")]
    assert "\n40 " in service.command("extract", "preview", "outline_look", "--total", name="author").stdout
    refused = service.command("source", "browse", "metering", "readings", "--columns", "litres", name="author")
    assert (refused.returncode, "--columns was given without --save" in refused.stderr) == (2, True)
