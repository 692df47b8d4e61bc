"""Combinations through the service: saved, checked, previewed, run over two databases and a lookup, proven, told of."""

from __future__ import annotations

import csv
import gzip
import io
import json
import zipfile

import httpx
import psycopg
import pytest

from patient_ladle.client import CallFailed, QueryFailed, RunFailed
from patient_ladle.core.files.formats import FORMATS
from tests.command import PATIENCE
from tests.conftest import printed

from .test_writing import problem

USE = "select d.district_id, d.name, count(*) as readings, sum(r.litres) as litres from readings r join districts d using (district_id) where r.reading_id <= :most group by 1, 2"
ORDERS = "select district_id, count(*) as orders from orders where district_id in :ids group by district_id"
MOST = {"name": "most", "type": "integer", "default": 500}
INPUTS = [
    {"name": "used", "extract": "comb_use", "values": {"most": {"parameter": "most"}}},
    {"name": "orders", "extract": "comb_orders", "values": {"ids": {"input": "used", "column": "district_id"}}},
    {"name": "names", "lookup": "comb_names"},
]
TOGETHER = """select u.name, n.title, u.readings, u.litres, o.orders
from used u left join names n on n.id = u.district_id left join orders o on o.district_id = u.district_id
order by u.district_id"""


@pytest.fixture(scope="module")
def author(service):
    with service.ladle("author") as ladle:
        ladle.lookups.add("comb_names", text="id,title\n1,Moor\n2,Fen\n")
        ladle.extracts.add("comb_use", "metering", USE, parameters=[MOST])
        ids = {"name": "ids", "type": "integer", "is_list": True}
        ladle.extracts.add("comb_orders", "works", ORDERS, parameters=[ids])
        ladle.extracts.add(
            "together", "", TOGETHER, inputs=INPUTS, parameters=[MOST], formats=["csv", "json"],
            steps=[{"step": "compute", "column": "per_reading", "as": "litres / readings"}],
        )  # fmt: skip
        yield ladle


@pytest.fixture(scope="module")
def ran(author):
    return author.runs.wait(author.runs.start("together", environment="live", data_date="2026-11-24")["id"], PATIENCE)


def rows_of(ladle, run):
    name = next(file["name"] for file in run["files"] if file["format"] == "csv")
    return list(csv.DictReader(io.StringIO(b"".join(ladle.runs.read(run["id"], name)).decode())))


def test_two_databases_and_a_lookup_come_together(author, ran, cluster):
    found = [(r["name"], r["title"], r["readings"], r["litres"]) for r in rows_of(author, ran)]
    with psycopg.connect(cluster.url("metering")) as connection:
        used = connection.execute(USE.replace(":most", "500")).fetchall()
    titles = {1: "Moor", 2: "Fen"}
    assert found == [(name, titles.get(n, ""), str(count), str(litres)) for n, name, count, litres in sorted(used)]
    direct = author.runs.wait(
        author.runs.start_unsaved(
            "works", statement="select district_id, count(*) as orders from orders group by 1", formats=["csv"]
        )["id"],
        PATIENCE,
    )
    orders = {row["district_id"]: row["orders"] for row in rows_of(author, direct)}
    assert [r["orders"] for r in rows_of(author, ran)] == [orders.get(str(n), "") for n, *_ in sorted(used)]


def test_the_run_its_members_its_log_and_its_descriptor_tell_where_all_of_it_came_from(author, ran):
    assert ran["source"] == ""
    used, orders, _ = ran["inputs"]
    assert [(e["name"], e["extract"], e["lookup"], e["state"], e["rows"], e["stored"]) for e in ran["inputs"]] == [
        ("used", "comb_use", "", "finished", 3, False), ("orders", "comb_orders", "", "finished", orders["rows"], False),
        ("names", "", "comb_names", "", None, False),
    ]  # fmt: skip
    member = author.runs.get(orders["run"])
    assert (member["member_of"], member["source"], member["data_date"]) == (ran["id"], "works", "2026-11-24")
    assert member["values_in_effect"]["ids"] == "the values of column 'district_id' of input 'used'"
    told = [line["text"] for line in author.runs.log(member["id"])]
    assert "parameter ids: 3 values of column 'district_id' of input 'used'" in told
    log = [line["text"] for line in author.runs.log(ran["id"])]
    assert {"input used: 3 rows loaded", "input names: 2 rows loaded"} <= set(log)
    described = json.loads(b"".join(author.runs.read(ran["id"], "datapackage.json")))["ladle"]
    first, _, table = described["inputs"]
    assert (first["run"], first["rows"], first["stored"]) == (used["run"], 3, False)
    assert first["hashes"] == [f"sha256:{author.runs.get(used['run'])['files'][0]['sha256']}"]
    assert table == {"lookup": "comb_names", "revision": 1, "rows": 2}
    assert (used["source"], used["revision"], used["values_in_effect"]["most"]) == ("metering", 1, "500")
    assert used["login"] == author.runs.get(used["run"])["identity"]["login"] != ""
    assert described["shaped"][0]["fetched"] == 3


def inside(data):
    """A file's bytes and, where it is an archive or packed, those of what is in it."""
    yield data
    if data[:2] == b"PK":
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            for name in archive.namelist():
                yield from inside(archive.read(name))
    elif data[:2] == b"\x1f\x8b":
        yield from inside(gzip.decompress(data))


def test_no_file_of_any_format_tells_a_reader_of_logins_statements_steps_and_inputs(service, author, ran):
    run = author.runs.wait(
        author.runs.start("together", environment="live", data_date="2026-11-24", formats=[*FORMATS], publish=True)["id"],
        PATIENCE,
    )
    identities = [author.runs.get(each["run"])["identity"] for each in run["inputs"] if each["run"]]
    needles = [*{value for each in identities for key, value in each.items() if key in ("server", "login")} - {"reader"}]
    needles += [
        "comb_use",
        "comb_orders",
        "district_id = any",
        "left join",
        "litres / readings",
        "per_reading = ",
        "'used'",
        '"login"',
    ]
    with service.ladle("reader") as reader:
        assert not reader.runs.get(run["id"])["inputs"]
        files = {each["name"]: b"".join(reader.runs.read(run["id"], each["name"])) for each in run["files"]}
        files["datapackage.json"] = b"".join(reader.runs.read(run["id"], "datapackage.json"))
        files["zip"] = httpx.get(
            f"{service.url}/api/v1/runs/{run['id']}/zip",
            timeout=PATIENCE,
            headers={"Authorization": f"Bearer {service.tokens['reader']}"},
        ).content
    assert len(files) == len(FORMATS) + 2
    for name, data in files.items():
        for part in inside(data):
            assert not [needle for needle in needles if needle.encode() in part], name
    with zipfile.ZipFile(io.BytesIO(next(data for name, data in files.items() if name.endswith(".xlsx")))) as book:
        told = "".join(book.read(name).decode() for name in book.namelist() if name.endswith(".xml"))
    assert f"run {run['inputs'][0]['run']}, attempt 1" in told
    assert "[{" not in told, "facts are words, no literals of a program"


def test_lists_leave_the_inputs_out_until_they_are_asked_for(author, ran):
    assert {run["id"] for run in author.runs.list(extract="comb_use")} == set()
    members = list(author.runs.list(member_of=ran["id"]))
    assert {run["extract"] for run in members} == {"comb_use", "comb_orders"}
    assert author.extracts.get("comb_use")["input_of"] == ["together"]
    line = next(line for line in author.extracts.list() if line["name"] == "comb_use")
    assert line["last_run"] is None
    assert all(not file["name"].startswith("comb_use") for file in author.runs.results(extract="comb_use"))


def test_a_preview_asks_the_sources_themselves(author):
    def preview(**more):
        query = author.extracts.start_preview(
            "", "live", TOGETHER, inputs=INPUTS, parameters=[MOST], values={"most": 30}, **more
        )
        return author.sources.wait_for_query(query)

    found = preview()
    assert (found["source"], found["environment"], found["state"]) == ("", "live", "finished")
    result = found["result"]
    assert [column["name"] for column in result["columns"]] == ["name", "title", "readings", "litres", "orders"]
    assert sum(int(row[2]) for row in result["rows"]) == 30
    assert {each["name"]: each["rows"] for each in result["inputs"]}["used"] == 3
    assert preview(total=True)["result"]["rows"] == [["3"]]
    shaped = preview(steps=[{"step": "filter", "where": "title is not null"}])["result"]
    assert (len(shaped["rows"]), shaped["shaped"]["fetched"]) == (2, 3)
    alone = author.sources.wait_for_query(author.extracts.start_preview("", "live", "select 42 as answer"))
    assert alone["result"]["rows"] == [["42"]]
    with pytest.raises(CallFailed, match="there is no input 'used'"):
        author.extracts.start_preview("", "live", "select * from used", inputs=[INPUTS[2]])
    with pytest.raises(QueryFailed, match="division by zero"):
        author.sources.wait_for_query(
            author.extracts.start_preview("", "live", "select id % 0 / 0 from names", inputs=[INPUTS[2]])
        )


def test_a_step_looks_up_in_an_input(author):
    """In a run, which loads it though the statement does not name it; in a preview; checked before, without reading a row."""
    steps = [{"step": "look_up", "input": "names", "on": {"district_id": "id"}, "columns": {"known_as": "title"}}]
    inputs = [INPUTS[0] | {"values": {"most": 500}}, INPUTS[2]]
    statement = "select district_id, litres from used order by district_id"
    author.extracts.add("comb_looked", "", statement, inputs=inputs, steps=steps)
    head = author.extracts.get("comb_looked")["revision"]
    assert head["steps_in_words"] == ["look up title as known_as in the input names by district_id = id"]
    run = author.runs.wait(author.runs.start("comb_looked", environment="live")["id"], PATIENCE)
    assert [row["known_as"] for row in rows_of(author, run)][:3] == ["Moor", "Fen", ""]
    query = author.extracts.start_preview("", "live", statement, inputs=inputs, steps=steps)
    assert author.sources.wait_for_query(query)["result"]["rows"][1][2] == "Fen"
    columns = [{"name": "district_id", "kind": "integer"}]
    told = author.extracts.check_steps(steps, columns, inputs=inputs, environment="live")
    assert [each["name"] for each in told["steps"][0]["columns"]] == ["district_id", "known_as"]
    told = author.extracts.check_steps([steps[0] | {"columns": {"n": "titel"}}], columns, inputs=inputs, environment="live")
    assert "no column 'titel'" in told["error"]["message"] or "titel" in told["error"]["message"]
    for wrong, message in (
        ([steps[0] | {"input": "nams"}], "step 1, input: there is no input 'nams'. Did you mean 'names'"),
        ([{key: value for key, value in steps[0].items() if key != "input"}], "names neither a lookup nor an input"),
        ([steps[0] | {"lookup": "comb_names"}], "names a lookup and an input"),
    ):
        with pytest.raises(CallFailed, match=message):
            author.extracts.add("comb_never", "", statement, inputs=inputs, steps=wrong)
    with pytest.raises(CallFailed, match="Only a combination has inputs"):
        author.extracts.add("comb_never", "metering", "select 1 as district_id", steps=steps)


def test_diagnostics_and_completion_know_the_columns_of_the_inputs(author):
    def told(statement, inputs=INPUTS):
        return author.extracts.diagnose("", "live", statement, [MOST], inputs)

    good = told(TOGETHER)
    assert good["diagnostics"] == []
    assert [(c["name"], c["kind"]) for c in good["statements"][0]["columns"]][:3] == [
        ("name", "text"), ("title", "text"), ("readings", "integer"),
    ]  # fmt: skip
    [wrong] = told("select u.nmae\nfrom used u")["diagnostics"]
    assert (wrong["severity"], wrong["line"]) == ("error", 1)
    [wrong] = told("select 1\nfrom usde")["diagnostics"]
    assert (wrong["message"], wrong["line"], wrong["column"]) == ("there is no input 'usde'.", 2, 6)
    [wrong] = told("select 1 from used u join names n on n.title = u.readings")["diagnostics"]
    assert "do not compare" in wrong["message"]
    wrong = told("select 1 from used", [{"name": "used", "extract": "comb_used"}])["diagnostics"]
    assert any("there is no extract 'comb_used'" in each["message"] for each in wrong)


REFUSED = [
    ([{"name": "used", "extract": "comb_uses"}], "no extract 'comb_uses'", "comb_use", "inputs[0].extract"),
    ([{"name": "used", "lookup": "comb_name"}], "no lookup 'comb_name'", "comb_names", "inputs[0].lookup"),
    ([{"name": "used", "extract": "comb_use", "statement": 2}], "no number 2", "", "inputs[0].statement"),
    ([{"name": "used", "extract": "comb_use", "values": {"least": 1}}], "no parameter 'least'", "most", "inputs[0].values.least"),
    ([{"name": "used", "extract": "comb_use", "values": {"most": "many"}}], "'many'", "whole number", "inputs[0].values.most"),
    ([{"name": "used", "extract": "comb_use", "values": {"most": {"parameter": "mst"}}}], "no parameter 'mst'", "", "inputs[0].values.most"),
    (
        [{"name": "used", "extract": "comb_use", "values": {"most": {"input": "n", "column": "id"}}}, {"name": "n", "lookup": "comb_names"}],
        "takes one value", "is_list", "inputs[0].values.most",
    ),
    ([{"name": "used", "extract": "comb_orders"}], "'ids' of 'comb_orders' needs a value", "hand one on", "inputs[0].values.ids"),
]  # fmt: skip


@pytest.mark.parametrize(("inputs", "message", "hint", "where"), REFUSED, ids=[str(n) for n in range(len(REFUSED))])
def test_inputs_that_cannot_be_are_refused_with_their_place_and_nothing_is_saved(author, inputs, message, hint, where):
    with pytest.raises(CallFailed) as refused:
        author.extracts.add("comb_wrong", "", "select * from used", inputs=inputs)
    assert message in refused.value.message
    assert hint in refused.value.hint
    assert refused.value.facts["where"] == where
    with pytest.raises(CallFailed, match="no extract 'comb_wrong'"):
        author.extracts.get("comb_wrong")


def test_what_else_does_not_go_with_inputs_is_refused(author, http):
    refused = [
        ({"source": "metering", "statement": "select 1", "inputs": INPUTS}, "takes no inputs"),
        ({"source": "", "statement": "select * from use", "inputs": INPUTS, "parameters": [MOST]}, "no input 'use'"),
        ({"source": "", "statement": "select now() from used", "inputs": INPUTS, "parameters": [MOST]}, "the clock"),
    ]
    for content, message in refused:
        with pytest.raises(CallFailed) as found:
            author.extracts.add("comb_wrong", **content)
        assert message in found.value.message
    secret = {"name": "key", "sensitive": True, "required": False}
    author.extracts.add(
        "comb_open", "metering", "select 1 as one where :name = 'x'", parameters=[{"name": "name", "required": False}]
    )
    with pytest.raises(CallFailed, match="'key' is sensitive, and 'name' of 'comb_open' is not"):
        author.extracts.add(
            "comb_wrong", "", "select * from o", parameters=[secret],
            inputs=[{"name": "o", "extract": "comb_open", "values": {"name": {"parameter": "key"}}}],
        )  # fmt: skip
    problem(
        http("POST", "/extracts", "author", json={"name": "x", "source": "", "statement": "select 1", "inputs": "used"}),
        400,
        "bad_input",
    )
    problem(
        http("POST", "/extracts", "author", json={"name": "x", "source": "", "statement": "select 1", "inputs": [1]}),
        400,
        "bad_input",
    )
    schema = author.extracts.input_schema()
    assert set(schema["$defs"]["Input"]["properties"]) == {"name", "extract", "lookup", "statement", "values", "stored"}


def test_a_source_that_is_away_between_two_inputs_fails_the_run_with_that_cause(author):
    author.extracts.add("comb_away", "metering", "select 1 as one from no_such_table")
    author.extracts.add(
        "comb_half", "", "select * from a, b",
        inputs=[{"name": "a", "extract": "comb_use"}, {"name": "b", "extract": "comb_away"}],
    )  # fmt: skip
    with pytest.raises(RunFailed) as failed:
        author.runs.wait(author.runs.start("comb_half", environment="live")["id"], PATIENCE)
    run = failed.value.run
    assert run["error"]["code"] == "input_failed"
    assert all(word in run["error"]["message"] for word in ("input 'b', run ", "no_such_table"))
    assert {each["name"]: each["state"] for each in run["inputs"]}["b"] == "failed"


def test_a_statement_over_inputs_runs_without_being_saved(author):
    run = author.runs.start_unsaved("", statement="select count(*) as n from names", inputs=[INPUTS[2]], formats=["csv"])
    assert rows_of(author, author.runs.wait(run["id"], PATIENCE)) == [{"n": "2"}]


def test_a_dry_run_tells_of_inputs_and_steps(author):
    found = author.runs.dry_run("together", environment="live", values={"most": 7})
    assert [(e["name"], e["extract"] or e["lookup"], e["source"]) for e in found["inputs"]] == [
        ("used", "comb_use", "metering"), ("orders", "comb_orders", "works"), ("names", "comb_names", ""),
    ]  # fmt: skip
    assert found["inputs"][0]["values"]["most"] == "7"
    assert found["inputs"][1]["values"]["ids"] == "the values of used.district_id"
    assert (found["place"], found["steps"]) == ("its inputs alone", ["new column per_reading = litres / readings"])


def test_the_same_from_the_command_line(service, author, tmp_path):
    (tmp_path / "inputs.toml").write_text(
        '[[inputs]]\nname = "used"\nextract = "comb_use"\nvalues = { most = { parameter = "most" } }\n'
        '[[inputs]]\nname = "names"\nlookup = "comb_names"\n'
    )
    (tmp_path / "side.sql").write_text("select n.title, u.litres from used u join names n on n.id = u.district_id order by 1")
    (tmp_path / "parameters.json").write_text(json.dumps([MOST]))
    given = ["--inputs", str(tmp_path / "inputs.toml"), "--statement", str(tmp_path / "side.sql")]
    command = lambda *words, **more: service.command(*words, name="author", **more)  # noqa: E731
    saved = command(
        "extract", "save", "comb_side", *given, "--parameters", str(tmp_path / "parameters.json"), "--formats", "csv"
    )
    assert "saved comb_side, revision 1" in saved.stdout
    assert "used   comb_use, most as :most" in command("extract", "inputs", "comb_side").stdout
    assert printed(command("extract", "inputs", "comb_side", "--json"))["inputs"][1] == {
        "name": "names",
        "lookup": "comb_names",
    }
    assert "input used: 3 rows" in command("extract", "preview", "comb_side", "--set", "most=9").stdout
    assert "columns: title (text), litres" in command("extract", "check", "comb_side", "--env", "live").stdout
    asked = command("extract", "preview", *given, "--set", "most=9", "--env", "live")
    assert "2 rows, all there are" in asked.stdout
    out = command("run", "start", "comb_side", "--env", "live", "--into", str(tmp_path / "out"))
    assert "on 2 inputs in live: finished, 2 rows" in out.stdout
    number = next(author.runs.list(extract="comb_side"))["id"]
    assert "of comb_use (revision 1) on metering: finished, 3 rows" in command("run", "show", str(number)).stdout
    assert "comb_use" in command("run", "list", "--member-of", str(number)).stdout
    assert "used: comb_use (revision 1) on metering, most = 500" in command("run", "start", "comb_side", "--dry-run").stdout
    assert "input of" in command("extract", "show", "comb_use").stdout
    (tmp_path / "wrong.json").write_text('{"inputs": {}}')
    wrong = command("extract", "save", "comb_side", "--inputs", str(tmp_path / "wrong.json"))
    assert wrong.returncode == 2
    assert all(word in wrong.stderr for word in ("holds no list of inputs", "--schema"))
    assert '"title": "Inputs of a combination"' in command("extract", "inputs", "--schema").stdout
