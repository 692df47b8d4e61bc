"""A statement or a table run once, without being saved: what comes out, who may, and what stays of it."""

from __future__ import annotations

import json
import random
import shlex
import subprocess
import sys

import openpyxl
import psycopg
import pytest

from patient_ladle.client import CallFailed
from patient_ladle.core.files.output import OutputSettings
from tests.conftest import printed

ROWS = "select district_id, name, zone from districts order by district_id"


@pytest.fixture(scope="module")
def gathered(service):
    """The catalogue of ``metering`` is there."""
    with service.ladle("runner") as ladle:
        ladle.sources.run_query("metering", "live", "catalogue")
    return service


@pytest.fixture
def only_saved(service):
    """``laboratory`` is asked for saved statements only, for the test's time."""
    with service.ladle() as ladle:
        ladle.sources.edit("laboratory", saved_only=True)
        yield service
        ladle.sources.edit("laboratory", saved_only=False)


def test_a_statement_from_a_file_gives_the_same_bytes_as_the_extract_that_it_becomes(service, tmp_path):
    path = tmp_path / "by_zone.sql"
    path.write_text("select name from districts where zone = :zone and district_id >= :least order by name")
    words = ["--statement", str(path), "--source", "metering", "--set", "zone=North", "--set", "least=1"]
    done = service.command("run", "start", *words, "--formats", "csv", "--into", "-", name="author")
    assert done.returncode == 0, done.stderr
    assert done.stdout == "name\nAlder Moor\n"
    name = done.stderr.partition(" of ")[2].partition(" ")[0]
    assert f"not in the repository; to keep it there: ladle extract move {name} --name NAME" in done.stderr
    with service.ladle("author") as ladle:
        assert name not in [each["name"] for each in ladle.extracts.list()]
        assert not ladle.extracts.get(name)["in_repository"]
        with pytest.raises(CallFailed, match="Give it a place first"):
            ladle.schedules.add("of_what_is_not_saved", extract=name, environment="live", rule="daily at 05:00", zone="UTC")
        kept = ladle.extracts.move(name, new_name="by_zone_kept")
        assert kept["in_repository"]
        assert "by_zone_kept" in [each["name"] for each in ladle.extracts.list()]
        again = ladle.runs.wait(ladle.runs.start("by_zone_kept", values={"zone": "North", "least": 1}, formats=["csv"])["id"])
        assert b"".join(ladle.runs.read(again["id"], again["files"][0]["name"])).decode() == done.stdout
        assert [p["type"] for p in kept["revision"]["parameters"]] == ["text", "integer"]


def test_the_same_text_of_the_same_person_is_one_extract_however_often_it_is_run(service):
    with service.ladle("author") as ladle, service.ladle("administrator") as other:
        runs = [each.runs.start_unsaved("metering", statement=ROWS + " -- once") for each in (ladle, ladle, other)]
        runs = [ladle.runs.wait(run["id"]) for run in runs]
    assert runs[0]["extract"] == runs[1]["extract"] != runs[2]["extract"]
    assert not any(run["saved"] or run["published"] for run in runs)


def test_a_look_at_a_table_as_a_file_has_every_row_that_passes_its_filters(gathered, cluster, tmp_path):
    words = ["source", "browse", "metering", "readings", "--where", "litres more 100", "--sort", "reading_id", "--descending"]
    out = gathered.command(*words, "--formats", "csv", "--into", str(tmp_path), name="runner")
    assert out.returncode == 0, out.stderr
    [path] = tmp_path.glob("readings-*.csv")
    with psycopg.connect(cluster.url("metering")) as database:
        expected = database.execute("select reading_id from readings where litres > 100 order by 1 desc").fetchall()
    assert len(expected) > 1_000  # more than a look shows
    assert [line.partition(",")[0] for line in path.read_text().splitlines()[1:]] == [str(each) for [each] in expected]


def test_only_authors_run_their_own_statements_and_readers_nothing(gathered):
    for name, body, status in (
        ("runner", {"statement": ROWS}, 403),
        ("reader", {"table": "districts"}, 403),
        ("runner", {"table": "districts"}, 201),
        ("author", {"statement": "delete from districts"}, 400),
        ("author", {"statement": ROWS, "table": "districts"}, 400),
        ("author", {"statement": ROWS, "sort": "name"}, 400),
        ("author", {}, 400),
    ):
        with gathered.ladle(name) as ladle:
            try:
                ladle.runs.start_unsaved("metering", **body)
            except CallFailed as error:
                assert error.status == status, (name, body, error)
            else:
                assert status == 201, (name, body)


def test_a_source_can_be_asked_for_saved_statements_only(only_saved):
    with only_saved.ladle("author") as ladle:
        saved = ladle.extracts.get("samples")["revision"]
        for start in (
            lambda text: ladle.runs.start_unsaved("laboratory", statement=text, parameters=saved["parameters"]),
            lambda text: ladle.extracts.start_preview("laboratory", "live", text, parameters=saved["parameters"]),
        ):
            with pytest.raises(CallFailed, match="is asked for saved statements only") as refused:
                start(saved["statement"] + " -- another")
            assert refused.value.status == 403
            assert start(saved["statement"])["id"]
    done = only_saved.command(
        "run", "start", "--text", "select 1 as saved_by_nobody", "--source", "laboratory", "--into", "-", name="author"
    )
    assert (done.returncode, done.stdout) == (4, "")
    assert only_saved.command("source", "edit", "laboratory", "--unsaved", "yes").returncode == 0


def test_output_of_one_run_changes_single_options_and_makes_it_a_trial(service, tmp_path):
    words = ["run", "start", "all_readings", "--option", "csv.delimiter=semicolon", "--into", str(tmp_path), "--json"]
    run = printed(service.command(*words, name="author"))
    assert (run["output"]["formats"]["csv"], run["published"]) == ({"delimiter": ";"}, False)
    [path] = tmp_path.glob("*.csv")
    assert path.read_text().startswith("reading_id;")
    with service.ladle("author") as ladle:
        again = ladle.runs.wait(ladle.runs.again(run["id"])["id"])
        assert (again["output"], again["same_as_before"]) == (run["output"], True)
        plain = ladle.runs.wait(ladle.runs.start("all_readings", output={})["id"])
        assert (plain["published"], plain["output"]) == (True, {})
        with pytest.raises(CallFailed, match="Did you mean 'delimiter'"):
            ladle.runs.start("all_readings", output={"formats": {"csv": {"delimitre": ";"}}})


def test_settings_laid_over_others_are_what_a_plain_merge_gives():
    dice = random.Random(16)
    single = [("csv", "delimiter", ";"), ("csv", "delimiter", ","), ("csv", "header", False), ("csv", "header", True),
              ("json", "envelope", True), ("files", "compression", "gzip"), ("files", "compression", "none")]  # fmt: skip

    def drawn():
        made = {}
        for place, name, value in dice.sample(single, dice.randrange(len(single))):
            at = made.setdefault("files", {}) if place == "files" else made.setdefault("formats", {}).setdefault(place, {})
            at[name] = value
        if dice.random() < 0.4:
            made["columns"] = [{"name": dice.choice("ab")}]
        return made

    def told(settings):
        """Every option that it comes to, single."""
        made = OutputSettings.from_dict(settings)
        return [made.options_of("csv"), made.options_of("json"), dict(made.files), str(made.columns)]

    for _ in range(300):
        own, over = drawn(), drawn()
        merged = json.loads(json.dumps(own))
        for place, options in over.get("formats", {}).items():
            merged.setdefault("formats", {}).setdefault(place, {}).update(options)
        merged.setdefault("files", {}).update(over.get("files", {}))
        merged["columns"] = over.get("columns") or own.get("columns")
        assert told(OutputSettings.from_dict(own).with_changes(over).to_dict()) == told(merged), (own, over)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ("run start all_readings --text 'select 1'", "the extract 'all_readings' and --text do not go together"),
        ("run start all_readings --source metering", "the extract 'all_readings' and --source do not go together"),
        ("run start --text 'select 1'", "it is not said what the statement reads. Give --source with one of: "),
        ("run start", "Give the name of an extract, or a statement"),
        ("extract preview", "Give the name of an extract, or a statement"),
        ("run start --text a --statement b --source metering", "--text and --statement do not go together"),
        ("run start all_readings --into - --json", "--into and --json do not go together"),
        ("run start all_readings --into - --formats csv,json", "--into - takes one file"),
        ("run start all_readings --no-wait --into x", "--no-wait and --into do not go together"),
        ("run start all_readings --dry-run --into x", "--dry-run and --into do not go together"),
        ("run start --text 'select 1' --source metering --publish", "--text and --publish do not go together"),
        ("source browse metering readings --count --by zone", "--count and --by do not go together"),
        ("source browse metering readings --period day", "--period was given without --by"),
        ("source browse metering readings --descending", "--descending was given without --sort"),
        ("source browse metering readings --rows 5 --into x", "--rows and --into do not go together"),
        ("source browse metering --count", "--count was given without a table"),
    ],
)
def test_what_would_be_ignored_is_refused(service, words, said):
    done = service.command(*shlex.split(words), name="author")
    assert (done.returncode, said in done.stderr) == (2, True), done.stderr


@pytest.mark.parametrize("text", ["5", '{"name": "a"}', '["a"]', "[", '"a"'])
def test_a_file_of_something_else_than_declarations_or_settings_is_refused_with_what_to_write(service, tmp_path, text):
    path = tmp_path / "given.json"
    path.write_text(text)
    done = service.command("run", "start", "--text", "select 1", "--source", "metering", "--parameters", str(path))
    assert (done.returncode, 'Write a list: [{"name": "since"' in done.stderr) == (2, True), done.stderr
    if not text.startswith("{"):
        done = service.command("run", "start", "all_readings", "--output", str(path))
        assert (done.returncode, 'Write {"formats":' in done.stderr) == (2, True), done.stderr


def test_several_files_do_not_go_to_standard_output_and_are_kept(service):
    done = service.command("run", "start", "district_use", "--trial", "--into", "-", name="author")
    assert done.returncode == 2
    assert done.stdout == ""
    assert "gave 3 files; standard output takes one. They are kept, save them: ladle result get" in done.stderr


def test_a_workbook_arrives_whole_through_a_pipe(service, tmp_path):
    path = tmp_path / "x.xlsx"
    service.ladle("author").close()
    words = [sys.executable, "-m", "patient_ladle.cli.main", "run", "start", "--text", ROWS, "--source", "metering"]
    environment = service.environment | {"LADLE_URL": service.url, "LADLE_TOKEN": service.tokens["author"]}
    with open(path, "wb") as out:
        subprocess.run([*words, "--formats", "xlsx", "--into", "-"], check=True, env=environment, stdout=out)
    rows = list(openpyxl.load_workbook(path).active.values)
    assert rows[0] == ("district_id", "name", "zone")
    assert len(rows) > 1
