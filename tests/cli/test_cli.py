"""The command line as people type it: tables, JSON, exit statuses, errors with the next step."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys

import pytest

from patient_ladle.client import CallFailed, Ladle
from tests.command import PATIENCE, ladle
from tests.conftest import PASSWORD, READER_PASSWORD, printed

from . import NOUNS, command_line

START = {("service", "start"), ("worker", "start")}
"""They ask no service."""


def test_sign_in_keeps_the_token_in_a_private_file(service, tmp_path):
    environment = os.environ | {"LADLE_CONFIG": str(tmp_path), "LADLE_URL": service.url}
    words = [sys.executable, "-m", "patient_ladle.cli.main"]
    done = subprocess.run(
        [*words, "sign-in", "runner", "--password-stdin"],
        env=environment,
        input=PASSWORD + "\n",
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    assert f"signed in to {service.url} as runner (runner)" in done.stdout
    assert os.stat(tmp_path / "tokens.json").st_mode & 0o777 == 0o600
    status = subprocess.run([*words, "status"], env=environment, capture_output=True, text=True, check=False)
    assert "as runner (runner)" in status.stdout
    wrong = subprocess.run(
        [*words, "sign-in", "reader"], env=environment | {"LADLE_PASSWORD": "no"}, capture_output=True, text=True, check=False
    )
    assert (wrong.returncode, "do not fit together" in wrong.stderr) == (4, True)
    token = json.loads((tmp_path / "tokens.json").read_text())[service.url]
    for status, said in ((0, f"signed out of {service.url}"), (2, "nobody is signed in")):
        out = subprocess.run([*words, "sign-out"], env=environment, capture_output=True, text=True, check=False)
        assert (out.returncode, said in out.stdout + out.stderr) == (status, True)
    assert json.loads((tmp_path / "tokens.json").read_text()) == {}
    with Ladle(service.url, token) as ladle, pytest.raises(CallFailed, match="expired or revoked"):
        ladle.people.me()


def test_a_run_from_start_to_saved_files(service, tmp_path):
    done = service.command("run", "start", "district_use", "--set", "zones=North,South", "--data-date", "2026-11-10", "--formats", "csv,json",
                           "--publish", "--into", str(tmp_path), name="author")  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert re.search(r"run \d+ of district_use \(revision 1\) on metering in live: finished, 2 rows", done.stdout)
    assert "delivered as " in done.stdout
    assert (tmp_path / "district_use-2026-11-10.csv").read_text().startswith("name,readings,litres\nAlder Moor,4319,")
    number = re.search(r"run (\d+) of", done.stdout).group(1)
    assert "2026-11-10" in service.command("run", "show", number).stdout
    assert "proven: district_use-2026-11-10.csv, 2 rows" in service.command("run", "log", number, "--follow").stdout
    again = printed(service.command("run", "again", number, "--json"))
    assert (again["state"], again["same_as_before"]) == ("finished", True)
    got = service.command("result", "get", number, "--into", str(tmp_path / "again"), "--file", "district_use-2026-11-10.json")
    assert got.stdout.strip() == f"saved {tmp_path}/again/district_use-2026-11-10.json"
    assert number in [str(f["run"]) for f in printed(service.command("result", "list", "--extract", "district_use", "--json"))]


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (["run", "start", "distric_use"], 2, "Did you mean 'district_use'?"),
        (["run", "start", "district_use", "--set", "zone=North"], 2, "Did you mean 'zones'?"),
        (["run", "start", "district_use", "--set", "zones"], 2, "Write --set name=value."),
        (["run", "start", "district_use", "--set", "zones=Nort"], 2, "Did you mean 'North'?"),
        (["run", "start", "district_use", "--formats", "cvs"], 2, "Did you mean 'csv'?"),
        (["run", "start", "broken"], 1, "column d.nmae does not exist (line 1, column 8)"),
        (["run", "show", "999999"], 2, "there is no run 999999."),
        (["run", "shwo", "1"], 2, "Did you mean 'ladle run show'?"),
        (["source", "remove", "metering"], 2, "Say --yes to do it."),
        (["source", "remove", "metering", "--yes"], 2, "is in use"),
        (["extract", "save", "fresh"], 2, "Give --source NAME and --statement FILE, --outline FILE or --tables A,B"),
        (["schedule", "add", "x", "samples", "--rule", "9 9"], 2, "a crontab rule has five"),
        (["source", "edit", "metering"], 2, "nothing to change was given."),
    ],
)
def test_bad_input_gets_its_status_and_the_next_step(service, words, status, said):
    done = service.command(*words)
    assert (done.returncode, said in done.stderr) == (status, True), done.stderr
    assert "Traceback" not in done.stderr


def test_who_may_not_and_no_service(service):
    denied = service.command("run", "start", "district_use", name="reader")
    assert (denied.returncode, "this needs runner" in denied.stderr) == (4, True)
    away = service.command("status", LADLE_URL="http://127.0.0.1:9")
    assert (away.returncode, "ladle service start" in away.stderr) == (3, True)


def test_an_extract_through_its_life(service, tmp_path):
    statement, parameters = tmp_path / "s.sql", tmp_path / "p.json"
    statement.write_text("select * from samples where point = :point")
    parameters.write_text('[{"name": "point"}]')
    words = [
        "extract",
        "save",
        "by_point",
        "--source",
        "laboratory",
        "--statement",
        str(statement),
        "--parameters",
        str(parameters),
    ]
    assert service.command(*words, "--folder", "quality", name="author").stdout == "saved by_point, revision 1\n"
    assert service.command(
        "extract", "save", "by_point", "--notes", "one point", "--change-note", "said what for"
    ).stdout.endswith("revision 2\n")
    stale = service.command("extract", "save", "by_point", "--notes", "x", "--revision", "1")
    assert (stale.returncode, "is at revision 2, saved by administrator" in stale.stderr) == (2, True)
    shown = service.command("extract", "show", "by_point").stdout
    assert ":point  text, required" in shown
    assert "said what for" in service.command("extract", "revisions", "by_point").stdout
    assert (
        "point_rows"
        in service.command("extract", "move", "by_point", "--name", "point_rows", "--folder", "quality/points").stdout
    )
    assert service.command("extract", "archive", "point_rows", "--yes").returncode == 0
    assert "is archived" in service.command("run", "start", "point_rows", "--set", "point=SP-1").stderr
    assert "point_rows" in service.command("extract", "list", "--archived").stdout
    assert "revision 3" in service.command("extract", "restore", "point_rows", "--revision", "1").stdout
    assert [e["name"] for e in printed(service.command("extract", "list", "--search", "where point", "--json"))] == [
        "point_rows"
    ]


def test_sources_and_environments(service, laboratory):
    assert service.command("environment", "add", "training").stdout == "environment training is added\n"
    assert "training" in service.command("environment", "list").stdout
    added = service.command("source", "add", "lab2", "sqlite", "--address", f"path={laboratory}", "--env", "training")
    assert (added.returncode, str(laboratory) in added.stdout) == (0, True)
    checked = service.command("source", "check", "lab2")
    assert (checked.returncode, checked.stdout.count("passed")) == (0, 5)
    service.command(
        "source",
        "edit",
        "lab2",
        "--address",
        f"path={laboratory.parent}/nowhere/lab.db",
        "--env",
        "training",
        "--max-runs",
        "1",
    )
    failed = service.command("source", "check", "lab2")
    assert (
        failed.returncode,
        f"there is no folder '{laboratory.parent}/nowhere'" in failed.stdout,
        "next" in failed.stdout,
    ) == (1, True, True)
    assert "failed: file" in service.command("source", "list").stdout
    assert printed(service.command("source", "show", "lab2", "--json"))["max_runs"] == 1
    assert service.command("source", "remove", "lab2", "--yes").returncode == 0


def test_a_schedule_through_its_life(service, tmp_path):
    made = service.command(
        "schedule",
        "add",
        "daily",
        "district_use",
        "--rule",
        "30 6 * * *",
        "--zone",
        "Europe/London",
        "--set",
        "zones=North",
        "--deliver-into",
        "daily_north",
    )
    assert (made.returncode, made.stdout.count("06:30") + made.stdout.count("05:30") >= 5) == (0, True), made.stderr
    assert "by administrator: swap" in service.command("schedule", "pause", "daily", "--reason", "swap").stdout
    assert "paused by administrator" in service.command("schedule", "list").stdout
    assert "will be skipped" in service.command("schedule", "next", "daily").stdout
    assert service.command("schedule", "resume", "daily").returncode == 0
    assert "to come" in service.command("schedule", "next", "daily").stdout
    assert "0 7 * * *" in service.command("schedule", "edit", "daily", "--rule", "0 7 * * *").stdout
    days = tmp_path / "days.ics"
    days.write_text(
        "BEGIN:VCALENDAR\nVERSION:2.0\nBEGIN:VEVENT\nDTSTART;VALUE=DATE:20300102\nSUMMARY:Fen Day\nEND:VEVENT\nEND:VCALENDAR\n"
    )
    assert "an iCalendar file" in service.command("calendar", "add", "fen", "--file", str(days)).stdout
    assert "Give --country GB" in service.command("calendar", "add", "fen").stderr
    shown = service.command(
        "schedule", "edit", "daily", "--rule", "1st or next working day 05:00", "--calendar", "fen", "--from", "2030-01-01",
        "--then", "samples,all_readings", "--catch-up", "all", "--catch-up-hours", "12", "--finish-by", "07:30", "--timeout-minutes", "90",
    )  # fmt: skip
    assert shown.returncode == 0, shown.stderr
    for line in ("then           samples, all_readings", "catch up       all, none older than 12 h", "attempts       3, timeout 90 minutes",
                 "finish by      07:30", "dates          from 2030-01-01"):  # fmt: skip
        assert line in shown.stdout
    assert "is in use: daily" in service.command("calendar", "remove", "fen", "--yes").stderr
    moments = (
        "schedule",
        "times",
        "2nd or next working day 05:00",
        "--calendar",
        "fen",
        "--from",
        "2030-01-01",
        "--limit",
        "1",
    )
    assert "moved from 2030-01-02 (Fen Day)" in service.command(*moments).stdout
    given = ("schedule", "edit", "daily", "--calendar", "none", "--from", "none", "--then", "none", "--rule", "daily 00:01")
    assert "dates" not in service.command(*given).stdout
    dates = ("--from", "2026-11-02", "--to", "2026-11-03")
    planned = service.command("backfill", "start", "daily", *dates, "--dry-run").stdout
    assert planned.count("no record of it") == 2
    made = printed(service.command("backfill", "start", "daily", *dates, "--yes", "--json"))
    assert (made["schedule"], made["from"], made["to"], made["deliver"]) == ("daily", "2026-11-02", "2026-11-03", True)
    with service.ladle("runner") as ladle:
        ended = [ladle.runs.wait(number) for number in made["runs"]]
        assert [(run["data_date"], run["backfill_id"]) for run in ended] == [(day, made["id"]) for day in dates[1::2]]
        repeated = service.command("backfill", "start", "daily", *dates, "--again", "--yes", "--json")
        again = ladle.runs.wait(printed(repeated)["runs"][0])
    assert (again["again_of"], again["same_as_before"]) == (ended[0]["id"], True)
    assert "has finished" in service.command("backfill", "start", "daily", *dates).stdout
    assert "2 finished" in service.command("backfill", "list", "--schedule", "daily").stdout
    assert "delivered" in service.command("backfill", "show", str(made["id"])).stdout
    assert "has ended" in service.command("backfill", "cancel", str(made["id"]), "--yes").stderr
    assert "is left to run" in service.command("backfill", "repeat", str(made["id"])).stderr
    assert "there is no backfill 9999" in service.command("backfill", "show", "9999").stderr
    assert service.command("calendar", "remove", "fen", "--yes").stdout == "calendar fen is removed\n"
    assert "samples depends on district_use" in service.command("extract", "depends-on", "samples", "district_use").stdout
    assert (
        "for ever (district_use → samples → district_use)"
        in service.command("extract", "depends-on", "district_use", "samples").stderr
    )
    assert "depends on no other extract" in service.command("extract", "depends-on", "samples").stdout
    assert service.command("schedule", "remove", "daily", "--yes").stdout == "schedule daily is removed\n"


def test_workers_are_listed_and_drained(service):
    [worker] = printed(service.command("worker", "list", "--json"))
    assert (worker["draining"], worker["max_runs"] >= 1, abs(worker["clock_seconds"]) < 5) == (False, True, True)
    assert service.command("worker", "drain", worker["id"], name="author").returncode == 4
    try:
        assert "takes no more runs" in service.command("worker", "drain", worker["id"]).stdout
        assert "draining" in service.command("worker", "list").stdout
    finally:
        assert "takes runs again" in service.command("worker", "drain", worker["id"], "--undo").stdout


def test_people_and_tokens(service):
    added = service.command("user", "add", "nadia", "--role", "reader", LADLE_PASSWORD="a-long-password")
    assert (added.returncode, "nadia" in added.stdout) == (0, True), added.stderr
    assert "administrator" not in service.command("user", "edit", "nadia", "--role", "runner").stdout
    assert printed(service.command("user", "list", "--json"))[0].keys() >= {"name", "role", "active"}
    last = service.command("user", "edit", "administrator", "--role", "reader")
    assert (last.returncode, "without an administrator" in last.stderr) == (2, True)
    made = printed(service.command("token", "add", "nightly", "--role", "runner", "--days", "30", "--json"))
    used = service.command("status", LADLE_TOKEN=made["secret"])
    assert "as administrator (runner)" in used.stdout
    assert "nightly" in service.command("token", "list").stdout
    assert service.command("token", "revoke", str(made["id"])).returncode == 0
    assert service.command("status", LADLE_TOKEN=made["secret"]).returncode == 4


def test_every_command_has_help_and_json(capsys):
    def told(*words):
        with pytest.raises(SystemExit):
            command_line().parse_args([*words, "--help"])
        return capsys.readouterr().out

    def named(text):
        return re.findall(r"^    ([a-z-]+)(?: |$)", text, re.M)

    assert {"sign-in", "sign-out", "status", "find", *NOUNS} == set(named(told()))
    for noun in NOUNS:
        for verb in named(told(noun)):
            text = told(noun, verb)
            assert "--json" in text or (noun, verb) in START, (noun, verb)
            assert "--url" in text or (noun, verb) in START, (noun, verb)
    assert "example" in told("run", "start")


def test_json_is_what_the_api_says(service):
    assert json.loads(service.command("run", "list", "--json", "--limit", "1").stdout)[0]["id"] > 0


@pytest.mark.parametrize(
    ("words", "more", "said"),
    [
        (["worker", "start"], {"LADLE_DATABASE_URL": ""}, "LADLE_DATABASE_URL is not set."),
        (["service", "start", "--demo"], {"LADLE_LISTEN": "0.0.0.0"}, "listens on loopback only"),
        (["service", "start"], {"LADLE_DATA": "/proc/nowhere"}, "cannot be"),
        (["status"], {"LADLE_CONFIG": "{folder}"}, "is not TOML"),
        (
            ["extract", "save", "x", "--source", "metering", "--statement", "/nowhere/x.sql"],
            {},
            "'/nowhere/x.sql': No such file",
        ),
    ],
)
def test_a_start_that_cannot_be_says_why_without_a_trace(service, tmp_path, words, more, said):
    (tmp_path / "config.toml").write_text("url = no toml")
    environment = {key: value for key, value in os.environ.items() if not key.startswith("LADLE_")}
    environment |= {key: value.format(folder=tmp_path) for key, value in more.items()}
    if not more:
        service.ladle().close()
        environment |= {"LADLE_URL": service.url, "LADLE_TOKEN": service.tokens["administrator"]}
    done = ladle(*words, env=environment)
    assert done.returncode in (1, 2), done.stdout
    assert said in done.stderr, done.stderr
    assert "Traceback" not in done.stderr


def test_output_that_nobody_reads_to_its_end_is_no_error(service):
    service.ladle().close()
    environment = os.environ | {"LADLE_URL": service.url, "LADLE_TOKEN": service.tokens["administrator"]}
    command = f"{sys.executable} -m patient_ladle.cli.main extract list --json | head -1; echo ${{PIPESTATUS[0]}}"
    done = subprocess.run(
        ["bash", "-c", command], env=environment, capture_output=True, text=True, timeout=PATIENCE, check=True
    )
    assert done.stdout.splitlines() == ["[", "0"], done.stdout
    assert done.stderr == ""


@pytest.mark.parametrize("words", [
    ("schedule", "add", "x", "use", "--rule", "daily 06:00", "--then", "a", "--then", "b"), ("run", "start", "use", "--formats", "csv", "--formats", "xlsx"),
    ("run", "list", "--limit", "3", "--limit", "4"),
])  # fmt: skip
def test_an_option_that_is_given_twice_is_an_error_and_not_the_last_one_in_silence(words, capsys):
    option = words[-2]
    with pytest.raises(SystemExit) as ended:
        command_line().parse_args(words)
    assert ended.value.code == 2
    assert f"{option} was given twice. Give it once; a list is written a,b,c." in capsys.readouterr().err
    command_line().parse_args(words[:-2])
    repeated = ("run", "start", "use", "--set", "a=1", "--set", "b=2")
    assert command_line().parse_args(repeated).set == ["a=1", "b=2"]


def test_whoever_archives_or_deactivates_is_told_which_schedules_that_is_about(service):
    assert service.command("user", "add", "nora", "--role", "author", LADLE_PASSWORD="fennmoor-nora").returncode == 0
    with Ladle.sign_in(service.url, "nora", "fennmoor-nora")[0] as nora:
        nora.extracts.add("hers", "laboratory", "select 1 as a")
        nora.schedules.add("hers-yearly", "hers", "live", "1st of january 00:00")
    archived = service.command("extract", "archive", "hers", "--yes")
    assert "due times of hers-yearly are skipped" in archived.stderr, archived
    gone = service.command("user", "edit", "nora", "--active", "no")
    assert "schedules that nora made go on: hers-yearly" in gone.stderr, gone
    assert service.command("schedule", "remove", "hers-yearly", "--yes").returncode == 0


def test_a_password_is_changed_alone(service, metering):
    with service.ladle() as ladle:
        ladle.sources.add("rotated", "postgresql", {"live": {"address": metering, "secret": "last year's"}})
    try:
        assert service.command("source", "check", "rotated").returncode == 1
        words = [sys.executable, "-m", "patient_ladle.cli.main", "source", "edit", "rotated", "--secret-stdin"]
        environment = os.environ | {"LADLE_URL": service.url, "LADLE_TOKEN": service.tokens["administrator"]}
        for more, status, said in ((["--env", "rehearsal"], 2, "it has live"), ([], 0, "password kept")):
            done = subprocess.run(
                [*words, *more], env=environment, input=READER_PASSWORD + "\n", capture_output=True, text=True, check=False
            )
            assert (done.returncode, said in done.stdout + done.stderr) == (status, True), done.stdout + done.stderr
        assert service.command("source", "check", "rotated").returncode == 0
    finally:
        service.command("source", "remove", "rotated", "--yes")


def test_the_first_revision_is_compared_with_none(service):
    done = service.command("extract", "diff", "samples")
    assert (done.returncode, "there is none before it" in done.stderr) == (2, True)


TAKEN_AWAY = ("source", "environment", "calendar", "channel", "schedule", "group", "value", "draft", "token")


def test_what_is_taken_away_is_told_as_json_where_that_is_asked_for(service):
    verbs = {
        (noun, verb)
        for noun, made in subcommands(command_line()).items()
        for verb in subcommands(made)
        if verb in ("remove", "drop", "revoke")
    }
    assert {noun for noun, _ in verbs} == {*TAKEN_AWAY}
    with service.ladle() as ladle:
        ladle.sources.add_environment("leaving")
        ladle.sources.add("leaving", "sqlite", {"leaving": {"address": {"path": str(service.data.parent / "x.db")}}})
        ladle.schedules.save_calendar("leaving", "GB", "ENG")
        ladle.alerts.add_channel("leaving", "webhook", {"url": "https://alerts.fennmoor.example/x"})
        ladle.schedules.add("leaving", "district_use", "live", "06:30")
        ladle.people.add_group("leaving", "reader")
        ladle.transport.call("PATCH", "/values/leaving", json={"values": {"live": 3}})
        ladle.extracts.keep_draft({"statement": "select 1"}, 0, name="broken")
        token = str(ladle.transport.call("POST", "/tokens", json={"name": "leaving"})["id"])
    for noun, verb in sorted(verbs, key=lambda each: each == ("environment", "remove")):  # its source goes first
        name = {"token": token, "draft": "broken"}.get(noun, "leaving")
        agreed = [] if noun == "token" else ["--yes"]
        done = service.command(noun, verb, name, *agreed, "--json")
        assert done.returncode == 0, (noun, done.stderr)
        assert name in map(str, json.loads(done.stdout).values()), (noun, done.stdout)


def subcommands(made):
    """By name."""
    return {name: each for action in made._actions if isinstance(action.choices, dict) for name, each in action.choices.items()}
