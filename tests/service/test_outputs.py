"""What becomes of a result, from the settings an author saves to the file a reader takes and proves."""

from __future__ import annotations

import importlib
import json
import re
import zipfile

import httpx
import openpyxl
import psycopg
import pytest

from patient_ladle.client.errors import CallFailed
from patient_ladle.core.files.formats import FORMATS
from patient_ladle.core.files.output import OutputSettings
from tests.command import PATIENCE
from tests.conftest import printed, until

STATEMENT = (
    "-- By district\nselect name, zone, district_id * 1234.5 as litres, date '2026-11-24' as read_on from districts order by 1;\n"
    "-- Many\nselect n, 'meter ' || n as serial from generate_series(1, 1000) n"
)
OUTPUT = {
    "formats": {
        "csv": {"delimiter": ";", "decimal_separator": ",", "encoding": "windows-1252", "date_format": "%d/%m/%Y"},
        "xlsx": {"title_rows": ["Use in {environment}, {data_date:%B %Y}: {statement}"]},
    },
    "columns": {"By district": [{"name": "litres", "as": "Litres", "pattern": "0.0"}, "name", "read_on"]},
    "files": {"mode": "0640"},
}


@pytest.fixture(scope="module")
def made(service):
    """A finished run of two statements in three formats, delivered."""
    with service.ladle("author") as ladle:
        ladle.extracts.add("outputs", "metering", STATEMENT, formats=["csv", "xlsx", "jsonl"], deliver_into="outputs", output=OUTPUT,
                           file_name="{extract}-{data_date:%Y%m}-{statement}")  # fmt: skip
        return ladle.runs.wait(ladle.runs.start("outputs", data_date="2026-11-10", publish=True)["id"], PATIENCE)


def test_settings_are_kept_as_they_were_saved_and_decide_what_is_written(service, made):
    with service.ladle() as ladle:
        saved = ladle.extracts.get("outputs")["revision"]["output"]
    assert saved["files"] == {"mode": "0640"}
    assert saved["columns"]["By district"][1] == {"name": "name"}
    folder = service.data / "deliveries" / "outputs"
    assert sorted(path.name for path in folder.iterdir()) == [
        "outputs-202611-1-by_district.csv", "outputs-202611-1-by_district.jsonl", "outputs-202611-2-many.csv",
        "outputs-202611-2-many.jsonl", "outputs-202611.datapackage.json", "outputs-202611.xlsx",
    ]  # fmt: skip
    assert {path.stat().st_mode & 0o777 for path in folder.iterdir()} == {0o640}
    text = (folder / "outputs-202611-1-by_district.csv").read_bytes().decode("windows-1252")
    assert text.splitlines()[:2] == ["Litres;name;read_on", "1234,5;Alder Moor;24/11/2026"]
    book = openpyxl.load_workbook(folder / "outputs-202611.xlsx")
    assert book.sheetnames == ["By district", "Many", "Origin"]
    assert book["By district"]["A1"].value == "Use in live, November 2026: By district"
    origin = {row[0].value: row[1].value for row in book["Origin"].iter_rows()}
    assert (origin["run"], origin["source"], origin["rows of Many"]) == (str(made["id"]), "metering", "1000")


@pytest.mark.parametrize(("line", "said"), [
    ("{dataDate}", "there is no field of a line of xlsx.title_rows 'dataDate'. Did you mean 'data_date'?"),
    ("{value.lmit}", "there is no parameter in the line of xlsx.title_rows 'lmit'"),
    ("{extract:%Y}", "only data_date takes a style"),
])  # fmt: skip
def test_a_line_that_names_what_nothing_fills_in_is_refused(service, made, line, said):
    with service.ladle("author") as ladle:
        output = {"formats": {"xlsx": {"title_rows": [line]}}}
        with pytest.raises(CallFailed, match=re.escape(said)):
            ladle.extracts.add("outputs_untold", "metering", STATEMENT, output=output)
        with pytest.raises(CallFailed, match=re.escape(said)):
            ladle.runs.start("outputs", output=output)


def test_a_delivery_is_proven_at_any_later_time(service, made, tmp_path):
    folder = service.data / "deliveries" / "outputs"
    proven = service.command("result", "verify", str(folder))
    assert (proven.returncode, "5 of 5 files are what their descriptor says." in proven.stdout) == (0, True), proven.stdout
    assert "rows 1,000" in proven.stdout
    copy = tmp_path / "copy"
    copy.mkdir()
    for path in folder.iterdir():
        (copy / path.name).write_bytes(path.read_bytes())
    damaged = copy / "outputs-202611-2-many.csv"
    damaged.write_bytes(damaged.read_bytes().replace(b"500;meter 500\n", b""))
    (copy / "outputs-202611.xlsx").unlink()
    found = service.command("result", "verify", str(copy))
    assert found.returncode == 1
    assert "rows: the descriptor says 1,000, the file has 999" in found.stdout
    assert "the file is not there" in found.stdout
    one = service.command("result", "verify", str(copy / "outputs-202611-1-by_district.csv"), "--json")
    assert [(v["rows"] > 0, v["differs"]) for v in json.loads(one.stdout)] == [(True, [])]
    alone = service.command("result", "verify", str(tmp_path))
    assert (alone.returncode, "no descriptor" in alone.stderr) == (2, True)


def test_files_are_looked_into_in_any_format(service, made):
    with service.ladle("reader") as ladle:
        seen = {f["name"]: ladle.runs.preview_file(made["id"], f["name"], rows=3) for f in made["files"]}
        origin = ladle.runs.preview_file(made["id"], "outputs-202611.xlsx", sheet="Origin", rows=100)
    assert seen["outputs-202611-2-many.csv"] == {
        "columns": ["n", "serial"],
        "rows": [[str(n), f"meter {n}"] for n in (1, 2, 3)],
        "complete": False,
    }
    assert seen["outputs-202611-2-many.jsonl"]["rows"][0] == ["1", "meter 1"]
    assert seen["outputs-202611.xlsx"]["columns"] == ["Litres", "name", "read_on"]
    assert seen["outputs-202611.xlsx"]["rows"][0] == ["1234.5", "Alder Moor", "2026-11-24"]
    assert ["data date", "2026-11-10"] in origin["rows"]
    told = service.command(
        "result", "preview", str(made["id"]), "--file", "outputs-202611-2-many.csv", "--rows", "2", name="reader"
    )
    assert "the first 2 rows; there are more." in told.stdout
    assert "By district" not in service.command("result", "show", str(made["id"]), name="reader").stderr


def test_all_files_come_as_one_archive_and_the_latest_has_an_address_of_its_own(service, http, made, tmp_path):
    with service.ladle("reader") as ladle:
        path = ladle.runs.save_archive(made["id"], tmp_path)
        names = zipfile.ZipFile(path).namelist()
        assert sorted(names) == sorted([*(f["name"] for f in made["files"]), "datapackage.json"])
        assert zipfile.ZipFile(path).testzip() is None
        latest = b"".join(ladle.runs.latest("outputs", "csv", statement=2))
    [file] = [f for f in made["files"] if f["name"] == "outputs-202611-2-many.csv"]
    answer = http("GET", "/extracts/outputs/latest/csv?statement=2&environment=live", "reader")
    assert (answer.content, answer.headers["etag"], answer.headers["x-run"]) == (latest, f'"{file["sha256"]}"', str(made["id"]))
    part = http(
        "GET",
        "/extracts/outputs/latest/csv?statement=2",
        "reader",
        headers={"Range": "bytes=5-9", "If-Range": answer.headers["etag"]},
    )
    assert (part.status_code, part.content) == (206, latest[5:10])
    for address, code in (
        ("outputs/latest/parquet", 404),
        ("outputs/latest/cvs", 404),
        ("slow/latest/csv", 404),
        ("outputs/latest/csv?statement=9", 404),
    ):
        assert http("GET", f"/extracts/{address}", "reader").status_code == code, address


@pytest.mark.parametrize(
    ("output", "words"),
    [
        ({"formats": {"csv": {"delimeter": ";"}}}, "Did you mean 'delimiter'?"),
        ({"formats": {"cvs": {}}}, "Did you mean 'csv'?"),
        ({"files": {"compression": "rar"}}, "value of compression"),
        ({"files": {"if_exists": "replace"}}, "Choose from: overwrite, rename, fail."),
        ({"columns": [{"nam": "x"}]}, "choice of a column"),
    ],
)
def test_wrong_settings_are_refused_when_they_are_saved(http, output, words):
    body = {"name": "never", "source": "metering", "statement": "select 1 as a", "output": output}
    answer = http("POST", "/extracts", "author", json=body)
    assert (answer.status_code, words in answer.text) == (400, True), answer.text


def test_options_on_the_command_line_and_what_there_is_to_choose(service, http, tmp_path):
    assert "windows-1252" in service.command("format", "show", "csv").stdout
    assert [f["name"] for f in printed(service.command("format", "list", "--json"))] == [
        "csv",
        "tsv",
        "xlsx",
        "json",
        "jsonl",
        "parquet",
        "text",
    ]
    text = tmp_path / "few.sql"
    text.write_text("select district_id, name from districts")
    done = service.command("extract", "save", "few", "--source", "metering", "--statement", str(text), "--formats", "csv,parquet",
                           "--option", "csv.delimiter=pipe", "--option", "files.compression=zstd", "--option", "csv.header=no")  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert '"delimiter": "|"' in service.command("extract", "show", "few").stdout
    saved = service.command("run", "start", "few", "--into", str(tmp_path / "few"))
    assert "few-" in saved.stdout, saved.stderr
    assert sorted(p.name.split(".", 1)[1] for p in (tmp_path / "few").iterdir()) == [
        "csv.zst",
        "datapackage.json",
        "parquet.zst",
    ]
    wrong = service.command("extract", "save", "few", "--option", "delimiter=pipe")
    assert (wrong.returncode, "csv.delimiter" in wrong.stderr) == (2, True)


def test_a_sample_shows_what_a_file_would_look_like(http):
    columns = [{"name": "n", "kind": "decimal", "source_type": "numeric"}, {"name": "t", "kind": "text", "source_type": ""}]
    body = {
        "columns": columns,
        "rows": [["1.5", "a"], [None, ""]],
        "format": "csv",
        "output": {"formats": {"csv": {"decimal_separator": ","}}},
    }
    assert http("POST", "/samples", "author", json=body).json()["text"] == 'n,t\n"1,5",a\n,""\n'
    shown = http("POST", "/samples", "author", json=body | {"format": "xlsx"}).json()
    assert (shown["text"], shown["columns"], shown["rows"]) == (None, ["n", "t"], [["1.5", "a"], [None, ""]])
    assert http("POST", "/samples", "author", json=body | {"rows": [["1"]]}).status_code == 400


@pytest.mark.parametrize(("if_exists", "second"), [("rename", "delivered"), ("fail", "failed"), ("overwrite", "delivered")])
def test_a_name_that_is_taken_is_numbered_refused_or_replaced(service, if_exists, second):
    name = f"taken_{if_exists}"
    with service.ladle("author") as ladle:
        ladle.extracts.add(name, "metering", "select now() as at", formats=["csv"], deliver_into=name, file_name="use",
                           output={"files": {"if_exists": if_exists}})  # fmt: skip
        ends = [_ended(ladle, ladle.runs.start(name)["id"]) for _ in range(2)]
    assert [(run["state"], run["delivery"]) for run in ends] == [("finished", "delivered"), ("finished", second)]
    files = sorted(path.name for path in (service.data / "deliveries" / name).iterdir())
    wanted = ["use.csv", "use.datapackage.json"]
    assert files == (sorted([*wanted, "use (2).csv", "use (2).datapackage.json"]) if if_exists == "rename" else wanted)
    if if_exists == "fail":
        error = ends[1]["delivery_error"]
        assert (error["code"], "is there already" in error["message"]) == ("name_taken", True)
    if if_exists == "rename":
        told = json.loads((service.data / "deliveries" / name / "use (2).datapackage.json").read_text())
        assert told["resources"][0]["path"] == "use (2).csv"


def _ended(ladle, number):
    return until(lambda: (run := ladle.runs.get(number))["state"] in ("finished", "failed", "cancelled") and run)


def test_what_a_guard_holds_back_is_delivered_when_an_author_says_so_and_not_before(service, http):
    folder = service.data / "deliveries" / "guarded"
    guards = [
        {"guard": "rows", "at_least": 3},
        {"guard": "no_duplicate", "columns": ["zone"], "then": "warn"},
        {"guard": "columns"},
    ]
    with service.ladle("author") as ladle:
        statement = "select name, 'all' as zone from districts order by 1 limit 3"
        ladle.extracts.add("guarded", "metering", statement, deliver_into="guarded", file_name="{extract}", guards=guards)
        fine = ladle.runs.wait(ladle.runs.start("guarded", publish=True)["id"], PATIENCE)
        assert (fine["held"], fine["warned"]) == ("", True)
        assert [f["text"][:25] for f in fine["findings"]] == ["no duplicate of zone: 2 f"]
        before = (folder / "guarded.csv").read_bytes()
        changed = "select name from districts where name < 'B'"
        guards.pop(1)
        ladle.extracts.save("guarded", statement=changed, guards=guards)
        held = ladle.runs.wait(ladle.runs.start("guarded", publish=True)["id"], PATIENCE)
        assert (held["state"], held["held"], held["files"][0]["delivered_path"]) == ("finished", "held", "")
        assert [f["text"] for f in held["findings"]] == ["at least 3 rows: there are 1", "columns as they were: gone: zone"]
        assert (folder / "guarded.csv").read_bytes() == before
        assert sorted(path.name for path in folder.iterdir()) == ["guarded.csv", "guarded.datapackage.json"]
        latest = http("GET", "/extracts/guarded/latest/csv", "reader")
        assert (latest.headers["x-run"], latest.headers["x-newer-held-run"]) == (str(fine["id"]), str(held["id"]))
        refused = http("POST", f"/runs/{held['id']}/release", "runner", json={"note": "I think it is fine"})
        assert refused.status_code == 403
        released = ladle.runs.release(held["id"], "the meter swap explains it")
        assert (released["held"], released["held_by"], released["files"][0]["delivered_path"]) == (
            "released", "author", str(folder / "guarded.csv"),
        )  # fmt: skip
        assert (folder / "guarded.csv").read_text() == "name\nAlder Moor\n"
        descriptor = json.loads((folder / "guarded.datapackage.json").read_text())
        assert descriptor["ladle"]["released"] == "the meter swap explains it"
        assert service.command("result", "verify", str(folder)).returncode == 0
        again = service.command("run", "release", str(held["id"]), name="author")
        assert "is released" in again.stderr
        another = ladle.runs.wait(ladle.runs.start("guarded")["id"], PATIENCE)
    said = service.command("run", "reject", str(another["id"]), "--note", "wrong month", name="author")
    assert said.stdout == f"run {another['id']} is rejected: its files stay in the result store only\n"
    shown = service.command("run", "show", str(another["id"])).stdout
    assert "rejected by author wrong month" in shown
    assert "at least 3 rows: there are 1 (hold)" in shown
    given = ("extract", "save", "guarded", "--guard", "not_null:columns=name+zone,then=warn", "--guard", "not_empty")
    assert service.command(*given, name="author").returncode == 0
    assert "not_null columns=name+zone, else warn" in service.command("extract", "show", "guarded").stdout
    refused = service.command("extract", "save", "guarded", "--guard", "row:at_least=1", name="author")
    assert "there is no guard 'row'. Did you mean 'rows'?" in refused.stderr


def test_a_stored_file_that_is_not_what_was_proven_is_never_served_as_a_result(service, http):
    """Shortened, it is refused; of the same length, it breaks off before its end, as a file and in an archive, and is refused
    from then on."""
    with service.ladle("author") as ladle:
        ladle.extracts.add("proven", "metering", "select name from districts order by 1", formats=["csv"])
        run = ladle.runs.wait(ladle.runs.start("proven", publish=True)["id"], PATIENCE)
        [file] = run["files"]
        stored = service.data / "results" / str(run["id"]) / "1" / file["name"]
        whole = stored.read_bytes()
        assert b"".join(ladle.runs.read(run["id"], file["name"])) == whole
        addresses = (f"/runs/{run['id']}/files/{file['name']}", "/extracts/proven/latest/csv", f"/runs/{run['id']}/zip")
        stored.write_bytes(whole[:-5])
        for address in addresses:
            answer = http("GET", address, "reader")
            assert (answer.status_code, answer.json()["code"]) == (409, "result_damaged"), address
            assert f"{len(whole) - 5:,} bytes; {len(whole):,} were proven" in answer.json()["message"]
        stored.write_bytes(whole[:-5] + b"XXXX\n")
        with pytest.raises(CallFailed, match="is damaged: it has"):  # as it was found before
            list(ladle.runs.read(run["id"], file["name"]))
        for address in addresses:
            stored.write_bytes(whole)
            assert http("GET", address, "reader").status_code == 200  # restored
            stored.write_bytes(whole[:-5] + b"XXXX\n")
            with pytest.raises(httpx.TransportError):
                http("GET", address, "reader")
            until(lambda: ladle.runs.get(run["id"])["files"][0]["damage"] == "its bytes are not those that were proven")
            for other in (*addresses, f"{addresses[0]}/preview", f"{addresses[0]}/profile?column=name"):
                assert http("GET", other, "reader").json()["code"] == "result_damaged", other
        assert "damaged in the result store: its bytes" in service.command("run", "show", str(run["id"])).stdout
        stored.write_bytes(whole)
        assert http("GET", f"{addresses[0]}/preview", "reader").status_code == 200
        assert ladle.runs.get(run["id"])["files"][0]["damage"] == ""


def test_what_changed_at_the_source_is_noted_on_the_run_without_a_guard(service):
    with service.ladle("author") as ladle, psycopg.connect(service.database_url(), autocommit=True) as ledger:
        ladle.extracts.add("noted", "metering", "select * from (values (1, 'a')) v (n, t) where n < :most", formats=["csv"],
                           parameters=[{"name": "most", "type": "integer", "default": 5}])  # fmt: skip
        first = ladle.runs.wait(ladle.runs.start("noted")["id"], PATIENCE)
        assert (first["warnings"], first["warned"]) == ([], False)
        columns = [{"name": name, "kind": "text", "source_type": "text"} for name in ("n", "gone")]
        then = json.dumps([{"title": "", "rows": 7, "columns": columns}])  # as if the source had been another
        ledger.execute("update runs_run set statements = %s where id = %s", [then, first["id"]])
        second = ladle.runs.wait(ladle.runs.start("noted")["id"], PATIENCE)
        words = f"columns are not as in run {first['id']}: gone: gone; new: t; n is integer and was text"
        assert (second["warnings"], second["warned"]) == ([words], True)
        ledger.execute("update runs_run set values = '{\"most\": 0}' where id = %s", [second["id"]])
        third = ladle.runs.wait(ladle.runs.start("noted", values={"most": 0})["id"], PATIENCE)
        assert third["warnings"] == [f"no rows, where run {second['id']} had 1"]


def test_settings_that_were_saved_under_earlier_names_are_brought_along():
    codes = importlib.import_module("patient_ladle.service.extracts.migrations.0009_codes")
    before = {
        "formats": {
            "csv": {"absent": "NULL", "line_end": "crlf", "true_word": "ja", "guard_formulas": True},
            "xlsx": {"unfit_numbers": "refuse", "date_form": "%d.%m.%Y"},
            "parquet": {"codec": "gzip"},
        },
        "columns": {"By district": [{"name": "litres", "form": "0.0"}, "zone"]},
        "files": {"packing": "gzip", "existing": "number", "mode": "0640"},
    }
    after = codes.output(before)
    assert after["files"] == {"compression": "gzip", "if_exists": "rename", "mode": "0640"}
    assert after["columns"] == {"By district": [{"name": "litres", "pattern": "0.0"}, "zone"]}
    assert OutputSettings.from_dict(after).to_dict()["formats"] == after["formats"]
    assert codes.output({}) == {}
    known = {option.name for each in FORMATS.values() for option in each.options}
    assert {*codes.OPTIONS.values()} <= known
