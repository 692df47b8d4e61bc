"""An extract that reads no source: everything that asks for one does without, and nothing else is in reach of it."""

from __future__ import annotations

import pytest

from patient_ladle.client import RunFailed
from tests.command import PATIENCE

from .test_writing import problem, refused

STATEMENT = "select :zone as zone, n, :data_date as day from range(3) as made(n) order by n"


def test_an_extract_without_a_source_is_saved_run_scheduled_and_shown(service):
    with service.ladle("author") as ladle:
        made = ladle.extracts.add("no_source", "", STATEMENT, formats=["csv"], parameters=[{"name": "zone"}])
        assert (made["revision"]["source"], made["revision"]["engine"]) == ("", "duckdb")
        assert next(line for line in ladle.extracts.list() if line["name"] == "no_source")["source"] == ""
        about = {"environment": "live", "values": {"zone": "North"}, "data_date": "2026-11-24"}
        dry = ladle.runs.dry_run("no_source", **about)
        assert (dry["source"], dry["place"], dry["reads"], dry["warnings"][:1]) == (
            "", "its values alone", {}, ["nothing is delivered: the extract names no folder. The files stay in the result store."],
        )  # fmt: skip
        run = ladle.runs.wait(ladle.runs.start("no_source", **about)["id"], PATIENCE)
        assert (run["state"], run["rows"], run["source"], run["engine"]) == ("finished", 3, "", "duckdb")
        read = b"".join(ladle.runs.read(run["id"], run["files"][0]["name"]))
        assert read == b"zone,n,day\nNorth,0,2026-11-24\nNorth,1,2026-11-24\nNorth,2,2026-11-24\n"
        told = ladle.extracts.diagnose("", "live", STATEMENT + " limit :most", [{"name": "zone"}])
        assert ([r["code"] for r in told["diagnostics"]], told["asked"]) == (["parameter_undeclared"], False)
        refused(lambda: ladle.extracts.start_preview("", "live", STATEMENT))
        refused(lambda: ladle.extracts.copy("no_source", "x", source="metering"))
        ladle.extracts.copy("no_source", "no_source_either")
        daily = ladle.schedules.add("no_source_daily", "no_source", "live", "daily 05:00", zone="UTC", values={"zone": "South"})
        ladle.schedules.remove(daily["name"])
    shown = service.command("extract", "show", "no_source", name="author").stdout
    assert "nothing but its values" in shown
    assert (
        "on no source in live: finished"
        in service.command("run", "start", "no_source", "--set", "zone=Coast", name="author").stdout
    )


def test_what_reads_no_source_reads_nothing_else_either(service, http):
    with service.ladle("author") as ladle:
        for text in ("select * from read_csv('/etc/passwd')", "select getenv('HOME') as x"):
            refused(lambda text=text: ladle.extracts.add("reads_more", "", text), "statement_refused")
        ladle.extracts.add("reads_more", "", "select 1 as one", formats=["csv"])
        for text in ("select * from '/etc/passwd.csv'", "select * from districts"):
            ladle.extracts.save("reads_more", statement=text)
            with pytest.raises(RunFailed):
                ladle.runs.wait(ladle.runs.start("reads_more", environment="live")["id"], PATIENCE)
    body = {"source": "", "environment": "nowhere", "statement": "select 1"}
    problem(http("POST", "/diagnostics", "author", json=body), 400, "unknown_name")
