"""Writing extracts through the service: shared values, phrases, private values, several statements."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from patient_ladle.client import CallFailed, RunFailed


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
        first = ladle.runs.wait(ladle.runs.start("zone_now", environment="live")["id"], 60)
        other = ladle.runs.wait(ladle.runs.start("zone_now", environment="rehearsal")["id"], 60)
        assert (first["values_in_effect"]["zone"], other["values_in_effect"]["zone"]) == ("North", "South")
        ladle.values.set("leak_zone", {"live": "South"})
        again = ladle.runs.wait(ladle.runs.again(first["id"])["id"], 60)
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
        run = ladle.runs.wait(run["id"], 60)
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
            parameters=[{"name": "who", "private": True}],
        )  # fmt: skip
        run = ladle.runs.wait(ladle.runs.start("by_customer", values={"who": "Alder Moor"})["id"], 60)
        assert run["rows"] == 1
        log = " ".join(line["text"] for line in ladle.runs.log(run["id"]))
        [stored] = (service.data / "results" / str(run["id"])).rglob("datapackage.json")
        for shown in (json.dumps(run), log, stored.read_text(), service.command("run", "show", str(run["id"])).stdout):
            assert "Alder Moor" not in shown
        assert run["values_in_effect"]["who"] == "(private)"


def test_each_statement_of_an_extract_has_its_own_file_and_count(service):
    text = "-- Districts\nselect name from districts order by 1;\n-- Readings by zone\nselect zone, count(*) as n from districts group by zone"
    with service.ladle("author") as ladle:
        ladle.extracts.add("two_parts", "metering", text, formats=["csv", "json"], deliver_into="parts")
        run = ladle.runs.wait(ladle.runs.start("two_parts", data_date="2026-11-24")["id"], 60)
        assert [(s["title"], s["rows"]) for s in run["statements"]] == [("Districts", 3), ("Readings by zone", 3)]
        names = [file["name"] for file in run["files"] if file["format"] == "csv"]
        assert names[0].endswith(".1-districts.csv")
        assert names[1].endswith(".2-readings_by_zone.csv")
        assert run["rows"] == 6
        assert [row["n"] for row in ladle.runs.rows(run, statement=1)] == [1, 1, 1]
        assert len(list(ladle.runs.rows(run))) == 3
        delivered = Path(run["files"][0]["delivered_path"])
        package = json.loads((delivered.parent / "two_parts-2026-11-24.datapackage.json").read_text())
        assert {r["title"] for r in package["resources"]} == {"Districts", "Readings by zone"}
        ladle.extracts.save("two_parts", statement=text.replace("zone, count", "zoone, count"))
        with pytest.raises(RunFailed) as failed:
            ladle.runs.wait(ladle.runs.start("two_parts", data_date="2026-11-24")["id"], 60)
        assert failed.value.run["error"]["facts"]["line"] == 4
        second = refused(
            lambda: ladle.extracts.save("two_parts", statement=text + "; delete from districts"), "statement_refused"
        )
        assert "begins with 'delete' at line 4" in second.message
