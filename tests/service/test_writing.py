"""Writing extracts through the service: shared values, phrases, sensitive values, several statements."""

from __future__ import annotations

import csv
import json
import subprocess
import sys
from pathlib import Path

import psycopg
import pytest

from patient_ladle.client import CallFailed, RunFailed
from tests.command import PATIENCE
from tests.conftest import until

from .test_http import problem


def refused(call, code="bad_input"):
    with pytest.raises(CallFailed) as found:
        call()
    assert found.value.code == code
    assert found.value.hint
    return found.value


def test_a_shared_value_is_the_default_by_environment_and_a_run_keeps_what_it_began_with(service):
    with service.ladle("author") as ladle:
        ladle.values.set("leak_zone", {"live": "North", "rehearsal": "South"}, "The zone in question.")
        ladle.extracts.add(
            "zone_now", "metering", "select district_id, zone from districts where zone = :zone order by 1",
            parameters=[{"name": "zone", "shared": "leak_zone", "pattern": "[A-Z][a-z]+"}],
        )  # fmt: skip
        first = ladle.runs.wait(ladle.runs.start("zone_now", environment="live")["id"], PATIENCE)
        other = ladle.runs.wait(ladle.runs.start("zone_now", environment="rehearsal")["id"], PATIENCE)
        assert (first["values_in_effect"]["zone"], other["values_in_effect"]["zone"]) == ("North", "South")
        ladle.values.set("leak_zone", {"live": "South"})
        again = ladle.runs.wait(ladle.runs.again(first["id"])["id"], PATIENCE)
        assert (again["values_in_effect"]["zone"], again["same_as_before"]) == ("North", True)
        assert ladle.runs.start("zone_now", environment="live")["values_in_effect"]["zone"] == "South"
        assert ladle.values.get("leak_zone")["used_by"] == [{"extract": "zone_now", "parameter": "zone"}]
        assert "zone_now" in refused(lambda: ladle.values.set("leak_zone", {"live": "no zone"})).message
        assert "zone_now" in refused(lambda: ladle.values.remove("leak_zone"), "conflict").message
        ladle.values.set("leak_zone", {"rehearsal": None})
        missing = refused(lambda: ladle.runs.start("zone_now", environment="rehearsal"), "value_missing")
        assert "shared value 'leak_zone'" in missing.hint
        refused(lambda: ladle.values.set("x", {"nowhere": 1}), "unknown_name")
        unknown = [{"name": "zone", "shared": "leak_zne"}]
        assert "leak_zone" in refused(lambda: ladle.extracts.save("zone_now", parameters=unknown), "unknown_name").hint
    listed = service.command("value", "list", name="author").stdout
    assert "leak_zone" in listed
    assert "zone_now" in listed
    shown = service.command("value", "show", "leak_zone").stdout
    assert "South" in shown
    assert "zone_now (:zone)" in shown
    done = service.command(
        "value", "set", "codes", '["N1", "N2"]', "--list", "--env", "live", "--env", "rehearsal", name="author"
    )
    assert "live: N1, N2; rehearsal: N1, N2" in done.stdout
    assert "Give --env" in service.command("value", "set", "codes", "1", name="author").stderr
    assert service.command("value", "remove", "codes", "--yes", name="author").returncode == 0
    assert service.command("value", "set", "codes", "1", "--env", "live", name="runner").returncode == 4


def test_phrases_are_explained_and_resolved_against_the_data_date(service):
    with service.ladle("author") as ladle:
        [found] = ladle.values.phrases("3rd working day of this month", "2026-11-24")
        assert found["means"] == "2026-11-04T00:00:00"
        assert len(ladle.values.phrases()) > 20
        wrong = refused(lambda: ladle.values.phrases("stat of last month"))
        assert (wrong.hint, wrong.facts["line"], wrong.facts["column"]) == ("Did you mean 'start of last month'?", 1, 1)
        refused(lambda: ladle.values.phrases("today", "2026-02-30"))
        ladle.extracts.add(
            "by_phrase", "metering", "select :since as since, :span_from as span_from, :span_to as span_to",
            parameters=[{"name": "since", "type": "date", "default": "start of last month"}, {"name": "span", "type": "period"}],
        )  # fmt: skip
        run = ladle.runs.start("by_phrase", values={"span": "last quarter"}, data_date="2026-03-01")
        run = ladle.runs.wait(run["id"], PATIENCE)
        assert {k: v for k, v in run["values_in_effect"].items() if k != "due_time"} == {
            "since": "2026-02-01", "span_from": "2025-10-01", "span_to": "2025-12-31", "data_date": "2026-03-01"}  # fmt: skip
        assert list(ladle.runs.rows(run)) == [{"since": "2026-02-01", "span_from": "2025-10-01", "span_to": "2025-12-31"}]
    shown = service.command("phrase", "show", "end of february", "--on", "2028-06-01").stdout
    assert "2028-02-29" in shown
    assert service.command("phrase", "show", "end of febuary").returncode == 2
    assert "monday of last week" in service.command("phrase", "list").stdout


def test_a_private_value_is_used_and_never_shown(service):
    with service.ladle("author") as ladle:
        ladle.extracts.add(
            "by_customer", "metering", "select d.name from districts d where d.name = :who",
            parameters=[{"name": "who", "sensitive": True}],
        )  # fmt: skip
        run = ladle.runs.wait(ladle.runs.start("by_customer", values={"who": "Alder Moor"})["id"], PATIENCE)
        assert run["rows"] == 1
        log = " ".join(line["text"] for line in ladle.runs.log(run["id"]))
        [stored] = (service.data / "results" / str(run["id"])).rglob("datapackage.json")
        for shown in (json.dumps(run), log, stored.read_text(), service.command("run", "show", str(run["id"])).stdout):
            assert "Alder Moor" not in shown
        assert run["values_in_effect"]["who"] == "(sensitive)"


def test_each_statement_of_an_extract_has_its_own_file_and_count(service):
    text = "-- Districts\nselect name from districts order by 1;\n-- Readings by zone\nselect zone, count(*) as n from districts group by zone"
    with service.ladle("author") as ladle:
        ladle.extracts.add("two_parts", "metering", text, formats=["csv", "json"], deliver_into="parts")
        run = ladle.runs.wait(ladle.runs.start("two_parts", data_date="2026-11-24")["id"], PATIENCE)
        assert [(s["title"], s["rows"]) for s in run["statements"]] == [("Districts", 3), ("Readings by zone", 3)]
        names = [file["name"] for file in run["files"] if file["format"] == "csv"]
        assert names[0].endswith(".1-districts.csv")
        assert names[1].endswith(".2-readings_by_zone.csv")
        assert run["rows"] == 6
        assert [row["n"] for row in ladle.runs.rows(run, statement=2)] == [1, 1, 1]
        assert len(list(ladle.runs.rows(run))) == 3
        delivered = Path(run["files"][0]["delivered_path"])
        package = json.loads((delivered.parent / "two_parts-2026-11-24.datapackage.json").read_text())
        assert {r["title"] for r in package["resources"]} == {"Districts", "Readings by zone"}
        ladle.extracts.save("two_parts", statement=text.replace("zone, count", "zoone, count"))
        with pytest.raises(RunFailed) as failed:
            ladle.runs.wait(ladle.runs.start("two_parts", data_date="2026-11-24")["id"], PATIENCE)
        assert "(line 4, column 8)" in failed.value.run["error"]["message"]
        second = refused(
            lambda: ladle.extracts.save("two_parts", statement=text + "; delete from districts"), "statement_refused"
        )
        assert "begins with 'delete' at line 4" in second.message


def diagnostics(http, statement, source="metering", **more):
    body = {"source": source, "environment": "live", "statement": statement, **more}
    answer = http("POST", "/diagnostics", "author", json=body)
    assert answer.status_code == 200, answer.text
    return answer.json()


@pytest.fixture(scope="module")
def looked_around(service):
    """The catalogues of metering and works are stored."""
    with service.ladle("author") as ladle:
        for name in ("metering", "works"):
            ladle.sources.run_query(name, "live", "catalogue")


def test_diagnostics_bring_the_databases_word_and_where_a_name_is(http, looked_around):
    found = diagnostics(http, "-- One\nselect d.nmae from districts d;\n-- Two\nselect 1 from orders")
    assert found["asked"]
    assert [(r["code"], r["line"], r["column"], r["length"], r["hint"]) for r in found["diagnostics"]] == [
        ("column_missing", 2, 10, 4, "Did you mean d.name?"),
        ("table_missing", 4, 15, 6, "It is not in this source, but in source works."),
    ]
    assert [(s["title"], s["line"], s["end_line"]) for s in found["statements"]] == [("One", 1, 2), ("Two", 3, 4)]
    half = diagnostics(http, "select d.nmae from districts d; select :nowhere")
    assert [(r["code"], r["column"]) for r in half["diagnostics"]] == [("column_missing", 10), ("parameter_undeclared", 40)]
    right = diagnostics(http, "select name, district_id as n from districts where zone = :zone", parameters=[{"name": "zone"}])
    assert right["diagnostics"] == []
    assert [(c["name"], c["kind"]) for c in right["statements"][0]["columns"]] == [("name", "text"), ("n", "integer")]
    broken = diagnostics(http, "select name frm districts d d where zone = 'é' and")
    assert broken["diagnostics"][0]["code"] == "statement_wrong"
    typed = diagnostics(http, "select name from districts where zone = :day", parameters=[{"name": "day", "type": "date"}])
    assert {r["code"] for r in typed["diagnostics"]} == {"other_type", "statement_wrong"}
    in_works = diagnostics(http, "select name from distrcts", source="works")
    assert in_works["diagnostics"][0]["hint"] == "Did you mean districts?"
    bad = diagnostics(http, "select 1", parameters=[{"name": "Ünfit"}, {}, {"name": "x", "type": "dat"}])
    assert [r["code"] for r in bad["diagnostics"] if r["severity"] == "error"] == ["bad_input", "bad_input", "unknown_name"]
    problem(
        http("POST", "/diagnostics", "runner", json={"source": "metering", "environment": "live", "statement": "x"}),
        403,
        "not_allowed",
    )


def test_a_preview_says_too_where_a_name_is(service, looked_around):
    for text, hint in (
        ("select 1 from orders", "It is not in this source, but in source works."),
        ("select d.nmae from districts d", "Did you mean d.name?"),
        ("select 1 from distrcts", "Did you mean districts?"),
    ):
        done = service.command("extract", "preview", "--source", "metering", "--text", text)
        assert done.returncode != 0
        assert hint in done.stderr, text


def test_a_silent_source_is_said_with_its_last_check_and_the_stored_names(http, service, metering, looked_around):
    with service.ladle() as ladle:
        ladle.sources.add(
            "away", "postgresql", {"live": {"address": metering | {"port": 1}, "secret": "x"}}, connect_timeout_seconds=2
        )
        ladle.sources.check("away")
    found = diagnostics(http, "select name from districts", source="away")
    [said] = found["diagnostics"]
    assert not found["asked"]
    assert (said["severity"], said["code"]) == ("warning", "source_unreachable")
    assert "The check of this source failed 0 minutes ago at port." in said["message"]


def test_a_kept_session_survives_its_server_connection(http, cluster, looked_around):
    assert diagnostics(http, "select 1 as one")["asked"]
    with psycopg.connect(cluster.url("metering"), autocommit=True) as connection:
        rows = connection.execute(
            "select xact_start from pg_stat_activity where usename = 'reader' and state = 'idle'"
        ).fetchall()
        assert rows
        assert all(began is None for (began,) in rows), "no snapshot is held while nobody types"
        connection.execute("select pg_terminate_backend(pid) from pg_stat_activity where usename = 'reader'")
    assert diagnostics(http, "select 1 as one")["asked"]


def preview(http, **body):
    answer = http("POST", "/previews", "author", json={"source": "metering", "environment": "live", **body})
    if answer.status_code != 202:
        return answer
    number = answer.json()["id"]
    return until(
        lambda: (found := http("GET", f"/queries/{number}", "author").json())["state"] in ("finished", "failed") and found
    )


def test_a_preview_shows_the_first_rows_of_one_statement_with_bound_values(http):
    text = "select name from districts where zone = :zone;\nselect * from generate_series(1, 1000000) n"
    both = {"statement": text, "parameters": [{"name": "zone"}]}
    first = preview(http, **both, values={"zone": "North"})
    assert (first["result"]["rows"], first["result"]["complete"]) == ([["Alder Moor"]], True)
    second = preview(http, **both, values={"zone": "x"}, statement_number=2, rows=5)
    assert (second["result"]["rows"], second["result"]["complete"]) == ([[str(n)] for n in range(1, 6)], False)
    assert second["result"]["first_seconds"] <= second["result"]["seconds"]
    assert second["result"]["identity"]["login"] == "reader"
    assert preview(http, **both, values={"zone": "x"}, statement_number=2, total=True)["result"]["rows"] == [["1000000"]]
    dated = {
        "statement": "select :since as since",
        "parameters": [{"name": "since", "type": "date", "default": "start of last month"}],
    }
    assert preview(http, **dated, data_date="2026-11-24")["result"]["rows"] == [["2026-10-01"]]
    problem(preview(http, **both, statement_number=3), 400, "bad_input")
    problem(preview(http, **both), 400, "value_missing")
    problem(preview(http, statement="delete from districts"), 400, "statement_refused")
    wrong = preview(http, statement="select 1;\nselect nmae from districts", statement_number=2)
    assert (wrong["state"], "line 2, column 8" in wrong["error"]["message"]) == ("failed", True)


def test_a_dry_run_tells_everything_and_runs_nothing(service):
    with service.ladle("author") as ladle:
        ladle.extracts.add(
            "dry", "metering", "-- By zone\nselect name, :who as who from districts where zone = any(:zones) and :since is not null",
            formats=["csv"], deliver_into="dry",
            parameters=[{"name": "zones", "is_list": True}, {"name": "since", "type": "date", "default": "start of last month"},
                        {"name": "who", "sensitive": True, "required": False}],
        )  # fmt: skip
        body = {"environment": "live", "values": {"zones": ["North", "South"], "who": "O'Brook"}, "data_date": "2026-11-24",
                "publish": True}  # fmt: skip
        before = len(list(ladle.runs.list(extract="dry")))
        found = ladle.runs.dry_run("dry", **body)
        assert len(list(ladle.runs.list(extract="dry"))) == before
        [statement] = found["statements"]
        assert statement["bound"] == {"who": "(sensitive)", "zones": ["North", "South"], "since": "2026-10-01"}
        assert "O'Brook" not in json.dumps(found)
        assert (found["expected"], found["reads"]["user"], found["engine"]) == (None, "reader", "postgresql")
        assert [file["name"] for file in found["files"]] == ["dry-2026-11-24.csv"]
        assert not found["files"][0]["overwrites"]
        run = ladle.runs.wait(ladle.runs.start("dry", **body)["id"], PATIENCE)
        assert [(f["name"], f["delivered_path"]) for f in run["files"]] == [
            (f["name"], f["delivered_path"]) for f in found["files"]
        ]
        after = ladle.runs.dry_run("dry", **body)
        assert after["expected"]["rows"] == run["rows"] == 2
        others = ladle.runs.dry_run("dry", **body | {"values": {"zones": ["South"], "who": "another"}})
        assert (after["expected"]["same_values"], others["expected"]["same_values"]) == (True, False)
        for zones, rows in ((["South"], 1), (["North", "South"], 2)):
            ladle.runs.wait(ladle.runs.start("dry", **body | {"values": {"zones": zones, "who": "another"}})["id"], PATIENCE)
            expected = ladle.runs.dry_run("dry", **body | {"values": {"zones": zones}})["expected"]
            assert (expected["rows"], expected["rows_min"], expected["rows_max"]) == (rows, rows, rows)
        assert any("would be overwritten: dry-2026-11-24.csv" in warning for warning in after["warnings"])
        blocked, aside = service.data / "deliveries/dry", service.data / "deliveries/dry-aside"
        blocked.rename(aside)
        blocked.write_text("in the way")
        there = ladle.runs.dry_run("dry", **body)["warnings"]
        blocked.unlink()
        aside.rename(blocked)
        assert any(f"'{blocked}' is not a folder." in warning for warning in there)
        refused(lambda: ladle.runs.dry_run("dry", environment="live"), "value_missing")
    shown = service.command(
        "run", "start", "dry", "--set", "zones=North", "--data-date", "2026-11-24", "--dry-run", name="author"
    ).stdout
    for words in (
        "nothing was run",
        "reader@127.0.0.1",
        "/* :since */ '2026-10-01'::date",
        "ladle run start dry",
        "with other values",
    ):
        assert words in shown


def test_the_code_that_is_shown_runs(service, tmp_path):
    with service.ladle("author") as ladle:
        found = ladle.runs.dry_run(
            "dry", environment="live", values={"zones": ["North", "a b'c"], "who": "x"}, data_date="2026-11-23"
        )
    environment = service.environment | {
        "LADLE_URL": service.url, "LADLE_TOKEN": service.tokens["author"], "LADLE_CONFIG": str(tmp_path / "cli"),
        "LADLE_VALUE_WHO": "M. Brook", "PATH": f"{Path(sys.executable).parent}:/usr/bin:/bin",
    }  # fmt: skip
    for language, words in (("command", ["bash", "-c"]), ("python", [sys.executable, "-c"])):
        folder = tmp_path / language
        folder.mkdir()
        done = subprocess.run(
            [*words, found["code"][language]], cwd=folder, env=environment, capture_output=True, text=True, timeout=PATIENCE
        )
        assert done.returncode == 0, done.stderr
        [row] = csv.DictReader((folder / "dry-2026-11-23.csv").read_text().splitlines())
        assert row == {"name": "Alder Moor", "who": "M. Brook"}


def test_a_statement_goes_out_and_comes_back(service, tmp_path):
    out = service.command("extract", "sql", "dry", "--set", "zones=North,South", name="author").stdout
    assert "array['North', 'South']::text[]" in out
    changed = tmp_path / "dry.sql"
    changed.write_text(out.replace("select name", "select upper(name) as name"))
    done = service.command("extract", "save", "dry", "--statement", str(changed), "--restore-parameters", name="author")
    assert done.returncode == 0, done.stderr
    with service.ladle("author") as ladle:
        saved = ladle.extracts.get("dry")["revision"]["statement"]
        assert saved.strip() == (
            "-- By zone\nselect upper(name) as name, :who as who from districts where zone = any(:zones) and :since is not null"
        )
        lost = refused(lambda: ladle.extracts.save("dry", statement="select 1 /* :who */", restore_parameters=True))
        assert "line 1, column 10" in lost.message


def test_the_repository_renames_labels_copies_and_compares(service):
    with service.ladle("author") as ladle:
        made = ladle.extracts.add(
            "repairs_old", "metering", "select name\nfrom districts\norder by name", folder="repairs", notes="*Weekly*"
        )
        assert made["owner"] == "author"
        ladle.extracts.move("repairs_old", new_name="repairs_new")
        found = ladle.extracts.get("repairs_old")
        assert (found["name"], found["former_names"]) == ("repairs_new", ["repairs_old"])
        assert ladle.runs.wait(ladle.runs.start("repairs_old")["id"], PATIENCE)["extract"] == "repairs_new"
        assert len(list(ladle.runs.list(extract="repairs_old"))) == len(list(ladle.runs.list(extract="repairs_new"))) == 1
        assert "repairs_new" in refused(lambda: ladle.extracts.add("repairs_old", "metering", "select 1"), "conflict").message
        ladle.extracts.move("repairs_new", new_name="repairs_old")
        assert ladle.extracts.get("repairs_new")["name"] == "repairs_old"
        ladle.extracts.move("repairs_old", new_name="repairs_new")
        ladle.extracts.edit("repairs_new", ["weekly", "field work"], "runner")
        assert "repairs_new" in [e["name"] for e in ladle.extracts.list(tag="field work")]
        assert "repairs_new" in [e["name"] for e in ladle.extracts.list(search="field w")]
        refused(lambda: ladle.extracts.edit("repairs_new", ["<b>"]))
        refused(lambda: ladle.extracts.edit("repairs_new", owner="nobody"), "unknown_name")
        ladle.extracts.save("repairs_new", statement="select name, zone\nfrom districts\norder by name", formats=["json"],
                            parameters=[], change_note="with the zone")  # fmt: skip
        differ = ladle.extracts.differences("repairs_new", 1, 2)
        assert [(line["kind"], line["text"]) for line in differ["statement"]] == [
            ("removed", "select name"), ("added", "select name, zone"), ("same", "from districts"), ("same", "order by name")]  # fmt: skip
        assert differ["settings"] == [{"field": "formats", "before": ["csv"], "after": ["json"]}]
        refused(lambda: ladle.extracts.differences("repairs_new", 1, 9), "not_found")
        copy = ladle.extracts.copy("repairs_new", "repairs_copy", folder="")
        assert (copy["tags"], copy["folder"], copy["owner"], copy["revision"]["formats"]) == (
            ["field work", "weekly"],
            "",
            "author",
            ["json"],
        )
        assert (
            "written in SQL of PostgreSQL" in refused(lambda: ladle.extracts.copy("repairs_new", "x", source="works")).message
        )
        ladle.schedules.add("repairs", "repairs_copy", "live", "0 6 * * *")
        ladle.schedules.add("all-repairs", "repairs_new", "live", "0 7 * * *", then=[{"extract": "repairs_copy"}])
        assert ladle.extracts.get("repairs_copy")["used_by"] == ["all-repairs", "repairs"]
        ladle.schedules.remove("repairs"), ladle.schedules.remove("all-repairs")
        assert ladle.extracts.get("repairs_copy")["used_by"] == []
    shown = service.command("extract", "show", "repairs_old", name="author")
    assert "'repairs_old' is now called 'repairs_new'" in shown.stderr
    assert "tags" in shown.stdout
    said = service.command("extract", "diff", "repairs_new", name="author").stdout
    assert "- select name\n+ select name, zone\n  from districts" in said
    assert "columns: name (text), zone (text)" in service.command("extract", "check", "repairs_new", name="author").stdout
    broken = service.command("extract", "check", "broken", name="author")
    assert (broken.returncode, "Did you mean d.name?" in broken.stdout) == (1, True)


def test_a_preview_from_the_command_line_and_one_that_is_cancelled(http, service, cluster):
    with service.ladle("author") as ladle:
        ladle.extracts.add("to_preview", "metering", "select name from districts where zone = :zone order by 1;\n-- All\nselect name from districts",
                           parameters=[{"name": "zone"}])  # fmt: skip
    shown = service.command("extract", "preview", "to_preview", "--set", "zone=North", name="author").stdout
    assert "Alder Moor" in shown
    assert "1 row, all there are" in shown
    assert (
        "2 rows shown"
        in service.command(
            "extract", "preview", "to_preview", "--set", "zone=x", "--statement-number", "2", "--rows", "2", name="author"
        ).stdout
    )
    assert (
        "3"
        in service.command(
            "extract", "preview", "to_preview", "--set", "zone=x", "--statement-number", "2", "--total", name="author"
        ).stdout
    )
    wrong = service.command("extract", "preview", "to_preview", "--set", "zone=x", "--statement-number", "3", name="author")
    assert (wrong.returncode, "there is no statement 3; there are 2" in wrong.stderr) == (2, True)
    body = {"source": "metering", "environment": "live", "statement": "select pg_sleep(300) is null as slept"}
    number = http("POST", "/previews", "author", json=body).json()["id"]

    def sleeping():
        with psycopg.connect(cluster.url("metering")) as connection:
            return connection.execute(
                "select pid from pg_stat_activity where wait_event = 'PgSleep' and usename = 'reader'"
            ).fetchall()

    until(sleeping)
    assert http("POST", f"/queries/{number}/cancel", "author").status_code == 200
    until(lambda: not sleeping())
    assert until(lambda: (found := http("GET", f"/queries/{number}", "author").json())["state"] == "cancelled" and found)
    back = http(
        "POST", "/restore-parameters", "author", json={"source": "metering", "statement": "select /* :zone */ 'x' /* : */"}
    )
    assert back.json() == {"statement": "select :zone"}
    problem(
        http("POST", "/restore-parameters", "author", json={"source": "metering", "statement": "/* :zone */"}), 400, "bad_input"
    )


def test_choices_come_from_a_query_with_words_for_them_and_serve_everybody_for_a_while(http, service):
    with service.ladle("author") as ladle:
        choices = {"source": "works", "statement": "select district_id, name from districts order by 1"}
        parameter = {"name": "district", "type": "integer", "choices": choices}
        ladle.extracts.add(
            "by_district", "metering", "select name from districts where district_id = :district", parameters=[parameter]
        )
        wrong = [parameter | {"choices": choices | {"statement": "delete from districts"}}]
        refused(lambda: ladle.extracts.save("by_district", parameters=wrong), "statement_refused")

    def answer(name):
        asked = http(
            "POST", "/extracts/by_district/choices", name, json={"parameter": "district", "environment": "live"}
        ).json()
        return until(lambda: (found := http("GET", f"/queries/{asked['id']}", name).json())["state"] == "finished" and found)

    first = answer("runner")
    assert first["result"]["rows"] == [["1", "Alder Moor"], ["2", "Birch Fen"], ["3", 'Heron "Holt", old']]
    second = answer("author")
    identity = second["result"].pop("identity")
    assert identity["login"] == "reader"
    assert "identity" not in first["result"]
    assert (second["result"], second["ended_at"]) == (first["result"], first["ended_at"])
    body = {"parameter": "distric", "environment": "live"}
    assert (
        problem(http("POST", "/extracts/by_district/choices", "runner", json=body), 400, "unknown_name")["hint"]
        == "Did you mean 'district'?"
    )
    problem(http("POST", "/extracts/by_district/choices", "reader", json=body), 403, "not_allowed")


def test_a_private_value_is_masked_in_schedules_and_in_what_a_database_says(service):
    with service.ladle("author") as ladle:
        ladle.extracts.add(
            "by_code", "metering", "select cast(:code as text)::int as code", parameters=[{"name": "code", "sensitive": True}]
        )
        with pytest.raises(RunFailed) as failed:
            ladle.runs.wait(ladle.runs.start("by_code", values={"code": "sesame-9"})["id"], PATIENCE)
        said = json.dumps(failed.value.run) + json.dumps(list(ladle.runs.log(failed.value.run["id"])))
        assert "sesame-9" not in said
        assert failed.value.run["error"]["message"] == "the database failed while running the statement."
        assert "may hold a sensitive value" in failed.value.run["error"]["hint"]
        made = ladle.schedules.add("coded", "by_code", "live", "0 6 * * *", values={"code": "12"})
        assert made["values"] == {"code": "(sensitive)"}
        ladle.schedules.edit("coded", values=made["values"], rule="0 7 * * *")
    with psycopg.connect(service.database_url()) as connection:
        [stored] = connection.execute("select values from schedules_schedule where name = 'coded'").fetchone()
        assert list(stored["code"]) == ["sealed"]
    with service.ladle("author") as ladle:
        ladle.schedules.remove("coded")


@pytest.mark.parametrize(
    ("statement", "code"),
    [
        ("select 'a", "statement_refused"), ("select 1 /* ", "statement_refused"), ("select \0", "statement_refused"), ("", "statement_refused"),
        ("select '" + "x" * (256 * 1024) + "'", "statement_refused"), ("select " + "(" * 600 + "1" + ")" * 600, None),
        ("select name from districts where district_id in (" + ", ".join(map(str, range(2000))) + ")", None),
        ("select '\u202e \u0627 e\u0301' as \"d\u0301rittes; Feld\"", None), ("select " + "1, " * 1_700 + "1", "statement_failed"),
        ("select " + "(" * 20_000 + "1" + ")" * 20_000, "statement_refused"), ("select :select as a, :ünd as b", "parameter_undeclared"),
    ],
)  # fmt: skip
def test_hard_input_gets_a_clear_answer(http, looked_around, statement, code):
    found = diagnostics(http, statement, parameters=[{"name": "select"}] if ":select" in statement else [])
    errors = [r for r in found["diagnostics"] if r["severity"] == "error"]
    assert [r["code"] for r in errors] == ([code] if code else [])
    assert all(r["message"] for r in errors)
    answer = http("POST", "/extracts", "author", json={"name": "hard", "source": "metering", "statement": statement,
                                                       "parameters": [{"name": "select"}] if ":select" in statement else []})  # fmt: skip
    assert answer.status_code in (201, 400, 409)
    assert "Traceback" not in answer.text


def test_a_save_without_a_change_makes_no_revision(service, tmp_path):
    statement = tmp_path / "same.sql"
    statement.write_text("select name, :who as who from districts")
    sensitive = [{"name": "who", "sensitive": True, "default": "O'Brook"}]
    with service.ladle("author") as ladle:
        ladle.extracts.add("same", "metering", statement.read_text(), parameters=sensitive)
        head = ladle.extracts.get("same")["revision"]
        for change in (
            {},
            {"statement": head["statement"]},
            {"parameters": sensitive},
            {"formats": ["csv"], "change_note": "none"},
        ):
            assert ladle.extracts.save("same", **change)["revision"]["number"] == 1, change
        again = service.command("extract", "save", "same", "--statement", str(statement), name="author")
        assert again.stdout == "nothing is changed: same stays at revision 1\n", again
        for number, change in enumerate(({"notes": "by zone"}, {"parameters": [{**sensitive[0], "default": "M. Brook"}]}), 2):
            assert ladle.extracts.save("same", **change)["revision"]["number"] == number, change
