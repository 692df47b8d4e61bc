"""What an extract publishes: one answer whoever asks, held files for authors only, and delivered names that are their owner's."""

from __future__ import annotations

import json

import pytest

from patient_ladle.client import CallFailed
from tests.command import PATIENCE
from tests.conftest import until

USE = "select name from districts where :above = 0 or district_id > :above order by 1"
ABOVE = [{"name": "above", "type": "integer", "default": 0}]


def ended(ladle, name, **body):
    return ladle.runs.wait(ladle.runs.start(name, **body)["id"], PATIENCE)


def test_trials_in_other_environments_values_and_formats_never_become_the_latest(service, http):
    with service.ladle("author") as ladle:
        ladle.extracts.add("use", "metering", USE, formats=["csv", "json"], parameters=ABOVE)
        nothing = http("GET", "/extracts/use/latest/csv", "reader").json()
        assert (nothing["code"], "--publish" in nothing["hint"]) == ("not_found", True)
        trial = ended(ladle, "use", values={"above": 2})
        refused = http("GET", "/extracts/use/latest/csv", "reader").json()
        assert f"run {trial['id']} is a trial" in refused["message"]
        published = ended(ladle, "use", values={"above": 0}, data_date="2026-11-20")  # its own value, said
        assert published["published"]
        trials = ({"values": {"above": 999}}, {"formats": ["json"]}, {"data_date": "2099-12-31"}, {"publish": False})
        for body in ({"environment": "rehearsal"}, *trials):
            assert ended(ladle, "use", **body)["published"] is ("environment" in body), body
        for form in ("csv", "json"):
            answer = http("GET", f"/extracts/use/latest/{form}", "reader")
            assert (answer.status_code, answer.headers["x-run"]) == (200, str(published["id"]))
        found = ladle.runs.latest_run("use")
        assert (found["run"], found["environment"], found["newer_held"]) == (published["id"], "live", None)
        assert http("GET", "/extracts/use/latest/csv?environment=rehearsal", "reader").headers["x-run"] != str(published["id"])
        json_only = ended(ladle, "use", formats=["json"], data_date="2026-11-21", publish=True)
        assert [ladle.runs.latest_run("use", format=form)["run"] for form in ("csv", "json")] == [
            published["id"],
            json_only["id"],
        ]
        assert http("POST", f"/runs/{json_only['id']}/withdraw", "runner", json={}).status_code == 403
        assert ladle.runs.withdraw(json_only["id"], "wrong month")["published"] is False
        assert ladle.runs.latest_run("use", format="json")["run"] == published["id"]
        ladle.runs.publish(json_only["id"])
        assert ladle.runs.latest_run("use", format="json")["run"] == json_only["id"]
    assert service.command("result", "get", "use", "--into", str(service.data.parent / "taken"), name="reader").returncode == 0


def test_a_trial_is_not_delivered_unless_it_is_to_be_published(service):
    folder = service.data / "deliveries" / "tried"
    with service.ladle("author") as ladle:
        ladle.extracts.add(
            "tried", "metering", USE, formats=["csv"], parameters=ABOVE, deliver_into="tried", file_name="{extract}"
        )
        assert ended(ladle, "tried")["delivery"] == "delivered"
        before, trials = (folder / "tried.csv").read_bytes(), []
        for body in ({"values": {"above": 999}}, {"formats": ["csv", "json"]}, {"publish": False}):
            run = ended(ladle, "tried", **body)
            assert (run["published"], run["delivery"], run["deliver_into"]) == (False, "", "")
            trials.append(run)
        assert any("this is a trial" in words for words in ladle.runs.dry_run("tried", values={"above": 9})["warnings"])
        assert "--trial" in ladle.runs.dry_run("tried", publish=False)["code"]["command"]
        ladle.extracts.save("tried", statement=USE + " ")
        assert ended(ladle, "tried", revision=1)["published"] is False
        assert (folder / "tried.csv").read_bytes() == before
        assert ended(ladle, "tried", values={"above": 2}, publish=True)["delivery"] == "delivered"
        assert (folder / "tried.csv").read_bytes() != before
        older = ladle.runs.publish(trials[0]["id"])  # what is newer is not overwritten by it
        assert (older["published"], older["delivery"]) == (True, "")
        assert "published and newer" in "".join(line["text"] for line in ladle.runs.log(older["id"]))
        last = ended(ladle, "tried", values={"above": 30}, formats=["csv", "json"])
        assert service.command("run", "publish", str(last["id"])).stdout.count("delivered as") == 2
        assert {file.name for file in folder.iterdir()} == {"tried.csv", "tried.json", "tried.datapackage.json"}
        delivered = json.loads((folder / "tried.datapackage.json").read_text())
        assert delivered["ladle"]["run"] == last["id"]
    said = service.command("run", "start", "tried", "--set", "above=1")
    assert "a trial, kept in the result store" in said.stdout
    assert service.command("run", "start", "tried", "--publish", "--trial").returncode == 2


def test_runs_of_schedules_are_published(service):
    with service.ladle("author") as ladle:
        ladle.extracts.add("scheduled", "metering", "select 1 as a", formats=["csv"])
        ladle.schedules.add("scheduled-daily", "scheduled", rule="daily 06:00", environment="live", zone="UTC")
        made = ladle.schedules.backfill("scheduled-daily", "2026-11-02", "2026-11-03")

        def finished():
            found = list(ladle.runs.list(backfill=made["id"]))
            return found if found and all(run["state"] == "finished" for run in found) else None

        runs = until(finished)
        assert [run["published"] for run in runs] == [True, True]
        assert ladle.runs.latest_run("scheduled")["data_date"] == max(run["data_date"] for run in runs)
        ladle.schedules.pause("scheduled-daily", "done")


@pytest.fixture(scope="module")
def held(service):
    """A run that a guard holds, of an extract without any other."""
    with service.ladle("author") as ladle:
        ladle.extracts.add("withheld", "metering", "select name from districts", formats=["csv"], deliver_into="withheld",
                           guards=[{"guard": "rows", "at_least": 5}])  # fmt: skip
        return ended(ladle, "withheld", publish=True)


def test_held_files_reach_authors_only_and_whoever_asks_is_told_by_which_guard(service, http, held):
    [file], number = held["files"], held["id"]
    for address in (f"files/{file['name']}", "files/datapackage.json", f"files/{file['name']}/preview", "zip"):
        for name in ("reader", "runner"):
            answer = http("GET", f"/runs/{number}/{address}", name)
            told = answer.json()
            assert (answer.status_code, told["code"]) == (403, "result_held"), address
            assert "at least 5 rows: there are 3" in told["message"]
            assert f"ladle run release {number}" in told["hint"]
        assert http("GET", f"/runs/{number}/{address}", "author").status_code == 200
    latest = http("GET", "/extracts/withheld/latest/csv", "reader").json()
    assert f"is held: run {number}, by its guard: at least 5 rows: there are 3" in latest["message"]
    listed = {name: http("GET", "/results?extract=withheld", name).json()["results"] for name in ("reader", "author")}
    assert (listed["reader"], [line["held"] for line in listed["author"]]) == ([], ["held"])
    said = service.command("result", "get", str(number), name="reader")
    assert (said.returncode, f"ladle run release {number}" in said.stderr) == (4, True)
    assert "held" in service.command("result", "list", "--extract", "withheld").stdout


def test_the_command_line_marks_what_is_held_and_tells_it_by_its_exit_status(service, held):
    number = str(held["id"])
    assert "finished, held" in service.command("run", "list", "--extract", "withheld").stdout
    assert number in service.command("run", "list", "--state", "held").stdout
    assert "there is no state 'hold'. Did you mean 'held'?" in service.command("run", "list", "--state", "hold").stderr
    shown = service.command("run", "show", number).stdout
    assert "held by its guard: at least 5 rows: there are 3" in shown
    assert f"next: ladle run release {number}, or ladle run reject {number}" in shown
    plain, strict = (service.command("run", "start", "withheld", *more) for more in ((), ("--strict",)))
    assert (plain.returncode, strict.returncode) == (0, 5)
    taken = service.command("result", "show", number, "--strict")
    assert (taken.returncode, "it is held: at least 5 rows" in taken.stderr) == (5, True)


def test_what_cannot_be_saved_is_an_error_and_for_programs_errors_are_json(service, held):
    with service.ladle("author") as ladle:
        number = ladle.runs.start("broken")["id"]
        failed = until(lambda: (run := ladle.runs.get(number))["state"] == "failed" and run)
    nothing = service.command("result", "get", str(failed["id"]))
    assert (nothing.returncode, "has no files: it is failed" in nothing.stderr) == (2, True)
    absent = service.command("result", "get", str(held["id"]), "--file", "nope.csv")
    assert (absent.returncode, f"has no file 'nope.csv'. It has: {held['files'][0]['name']}" in absent.stderr) == (2, True)
    for words, code, status in (
        (("run", "start", "brokn", "--json"), "unknown_name", 2),
        (("run", "start", "broken", "--json"), "run_failed", 1),
        (("result", "get", str(failed["id"]), "--json"), "client_error", 2),
        (("run", "strat", "--json"), "usage", 2),
    ):
        said = service.command(*words)
        error = json.loads(said.stderr.splitlines()[-1])["error"]
        assert (said.returncode, error["exit_status"], error["code"]) == (status, status, code), said
        assert error["message"]
        assert error["hint"]


def test_a_delivered_name_is_its_extracts_and_environments_until_its_file_is_gone(service):
    folder = service.data / "deliveries" / "owned"
    with service.ladle("author") as ladle:
        ladle.extracts.add(
            "owner", "metering", "select 'owner' as a", formats=["csv"], deliver_into="owned", file_name="use-{data_date}"
        )
        with pytest.raises(CallFailed, match=r"'owner' delivers into .*owned' under the same name"):
            ladle.extracts.add(
                "other", "metering", "select 2 as a", formats=["csv"], deliver_into="owned", file_name="Use-{data_date}"
            )
        ladle.extracts.add("other", "metering", "select 'other' as a", formats=["csv"], deliver_into="owned", file_name="{value.name}",
                           parameters=[{"name": "name", "required": False}])  # fmt: skip
        mine = ended(ladle, "owner", data_date="2026-11-10")
        file = folder / "use-2026-11-10.csv"
        before = file.read_bytes()

        def undelivered(name, **body):
            run = ended(ladle, name, **body)
            error = ladle.runs.get(run["id"])["delivery_error"]
            assert (run["delivery"], error["code"]) == ("failed", "name_taken")
            assert f"is a file of 'owner' in live, delivered by run {mine['id']}" in error["message"]
            assert file.read_bytes() == before
            return run

        late = undelivered("other", values={"name": "use-2026-11-10"}, publish=True)
        undelivered("owner", environment="rehearsal", data_date="2026-11-10")
        assert sorted(path.name for path in folder.iterdir()) == ["use-2026-11-10.csv", "use-2026-11-10.datapackage.json"]
        warned = ladle.runs.dry_run("other", values={"name": "use-2026-11-10"}, publish=True)["warnings"]
        assert any("is a file of 'owner' in live" in words for words in warned)
        assert ended(ladle, "owner", data_date="2026-11-10")["delivery"] == "delivered"
        for path in folder.iterdir():
            path.unlink()
        ladle.runs.deliver(late["id"])
        assert "other" in file.read_text()
        ladle.schedules.add("owner-live", "owner", rule="daily 06:00", environment="live", zone="UTC")
        with pytest.raises(
            CallFailed, match=r"schedule 'owner-live' delivers 'use-\{data_date\}' from live into the same folder"
        ):
            ladle.schedules.add("owner-rehearsal", "owner", rule="daily 06:00", environment="rehearsal", zone="UTC")
        ladle.schedules.pause("owner-live", "done")
