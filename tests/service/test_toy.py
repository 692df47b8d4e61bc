"""A language that is no SQL, in a service that was not made for it: saved, looked at, run, browsed as far as it goes."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from tests.command import PATIENCE
from tests.conftest import set_up, start_service, stop_service

from .test_writing import problem, refused

TOY = str(Path(__file__).parent.parent / "toy")
STATEMENT = "# Of one zone\npick name from districts where zone is :zone\n---\n# All\npick zone, name from districts"


@pytest.fixture(scope="module")
def toy(home, metering):
    """A service with one engine more, which only its own path knows of."""
    made = start_service(home / "toy", PYTHONPATH=os.pathsep.join([TOY, os.environ.get("PYTHONPATH", "")]))
    with set_up(made, metering) as ladle:
        ladle.sources.add("picked", "toy", {"live": {"address": {}}})
        yield ladle, made
    stop_service(made)
    assert not [line for line in made.log if "Traceback" in line], "".join(made.log)


def test_a_language_that_is_no_sql_is_written_run_and_looked_at(toy):
    ladle, _ = toy
    http = ladle.transport.http
    about = {"source": "picked", "environment": "live"}
    [engine] = [each for each in ladle.sources.engines() if each["name"] == "toy"]
    assert engine["language"] == {"name": "toy", "title": "picks", "gives_documents": False, "editor": None, "outlines": None}
    [checked] = ladle.sources.check("picked", "live")
    assert all(step["passed"] for step in checked["last_check"]), checked
    ladle.extracts.add("zone_names", "picked", STATEMENT, formats=["csv"], parameters=[{"name": "zone", "default": "North"}],
                       file_name="{extract}-{statement}")  # fmt: skip
    run = ladle.runs.wait(ladle.runs.start("zone_names", environment="live")["id"], PATIENCE)
    assert (run["state"], [file["rows"] for file in run["files"]]) == ("finished", [2, 3])
    assert [each["title"] for each in run["statements"]] == ["Of one zone", "All"]
    dry = ladle.runs.dry_run("zone_names", environment="live", values={"zone": "South"})
    assert (dry["place"], dry["statements"][0]["filled_in"].splitlines()[-1]) == (
        "in memory", 'pick name from districts where zone is <zone: "South">',
    )  # fmt: skip
    filled = STATEMENT.replace(":zone", '<zone: "South">')
    restored = http.post("/restore-parameters", json={"source": "picked", "statement": filled}).json()
    assert restored["statement"] == STATEMENT
    wrong = STATEMENT.replace("districts where", "reedings where") + "\n---\npick :nmae"
    told = http.post("/diagnostics", json={**about, "statement": wrong, "parameters": [{"name": "zone"}]}).json()
    assert [each["code"] for each in told["diagnostics"]] == ["statement_wrong", "parameter_undeclared"]
    assert "'reedings'" in told["diagnostics"][0]["message"]
    proposed = http.post("/completions", json={**about, "statement": STATEMENT, "position": 3}).json()
    assert (proposed["proposals"], proposed["typed"]) == ([], "")
    with_total = {**about, "statement": STATEMENT, "values": {"zone": "North"}, "parameters": [{"name": "zone"}], "total": True}
    problem(http.post("/previews", json=with_total), 400, "bad_input")
    refused(lambda: ladle.extracts.add("no_pick", "picked", "drop districts"), "statement_refused")
    refused(lambda: ladle.extracts.copy("zone_names", "elsewhere", source="metering"), "bad_input")
