"""What the documents show is what works: every command they name is run against the demo, in their order."""

from __future__ import annotations

import argparse
import json
import os
import re
import runpy
import shlex
import signal
import subprocess
import sys
import threading
from collections import Counter
from datetime import datetime, timedelta, timezone
from pathlib import Path

import pytest

from patient_ladle.adapters.sources import ENGINES
from patient_ladle.core.results.guards import KINDS
from patient_ladle.core.runs import alerts
from tests.command import PATIENCE, ladle
from tests.conftest import port_of_our_own, until

from . import NOUNS, command_line

ROOT = Path(__file__).parents[2]
LADLE = [sys.executable, "-m", "patient_ladle.cli.main"]
FAILS = {"ladle run start chlorine_residual": 1, "ladle source check archive": 1}
"""What the README shows failing."""
PAGES = (
    "README.md",
    "docs/tour.md",
    "docs/tutorial.md",
    "docs/how-to.md",
    "docs/sources.md",
    "docs/writing.md",
    "docs/outlines.md",
    "docs/steps.md",
    "docs/combining.md",
    "docs/formats.md",
    "docs/rights.md",
)
"""Whose commands are run."""
pytestmark = pytest.mark.in_order  # the documents are a story, and their pictures are of its beginning
NOT_HERE = ("service start", "worker start")


def test_every_link_leads_somewhere():
    pages = [*ROOT.glob("*.md"), *(ROOT / "docs").glob("*.md")]
    for page in pages:
        for link in re.findall(r"\]\(([^)#]+)(?:#[^)]*)?\)", page.read_text()):
            assert "://" in link or (page.parent / link).exists(), f"{page.name} links to {link}"
    shown = {link for page in pages for link in re.findall(r"screenshots/([\w-]+\.png)", page.read_text())}
    assert shown == {picture.name for picture in (ROOT / "docs/screenshots").glob("*.png")}


def blocks(document, language):
    return re.findall(rf"```{language}\n(.*?)```", (ROOT / document).read_text(), re.S)


def steps(document):
    return [
        line.split("  #")[0]
        for block in blocks(document, "sh")
        for line in block.splitlines()
        if line.startswith(("ladle ", "echo "))
    ]


def ended_with_its_demo(process, log, over):
    """A demo that cannot be made is begun again and again: it fails here at its first end, and not at the end of patience."""
    while not over.wait(0.5):
        if "demo ended with status" in log.read_text():
            process.terminate()
            return


@pytest.fixture(scope="module")
def demo(home):
    """The demo, its anchor date fixed, once its sources are up; stopped as Ctrl+C stops it."""
    data, port = home / "unpacked" / ".demo", port_of_our_own()
    environment = os.environ | {
        "LADLE_DATA": str(data),
        "LADLE_PORT": str(port),
        "LADLE_DEMO_DATE": "2026-11-24",
        "LADLE_TIME_ZONE": "Europe/London",
    }
    with open(home / "demo.log", "w") as log:
        process = subprocess.Popen(
            [*LADLE, "service", "start", "--demo"], env=environment, stdout=subprocess.PIPE, stderr=log, text=True
        )
    over = threading.Event()
    threading.Thread(target=ended_with_its_demo, args=(process, home / "demo.log", over), daemon=True).start()
    said = []
    for line in process.stdout:
        said.append(line)
        if line.startswith("demo sources: "):
            break
    else:
        process.stdout.close()
        raise AssertionError(f"it ended with {process.wait()}: {(home / 'demo.log').read_text()}")
    over.set()
    assert f"ready: http://127.0.0.1:{port}\n" in said
    environment |= {
        "LADLE_URL": f"http://127.0.0.1:{port}",
        "LADLE_CONFIG": str(home / "demo-cli"),
        "LADLE_PASSWORD": "fennmoor-demo",
    }
    yield environment
    process.send_signal(signal.SIGINT)
    assert process.wait(PATIENCE) == 0
    process.stdout.close()
    left = subprocess.run(["pgrep", "-f", str(data)], capture_output=True, text=True, check=False).stdout.split()
    assert left == [], "Ctrl+C must end everything that the demo started"


@pytest.mark.long  # each page settles for a second or two
def test_no_picture_is_out_of_date(demo):
    """Before the documents' own commands change what is there."""
    script, pictures = ROOT / "scripts/screenshots.py", ROOT / "docs/screenshots"
    words = [sys.executable, str(script), demo["LADLE_URL"], str(pictures), "--check"]
    done = subprocess.run(words, capture_output=True, text=True, timeout=1800, check=False)
    assert done.returncode == 0, done.stdout + done.stderr


@pytest.mark.parametrize("document", PAGES)
def test_the_commands_of_the_documents_run_on_the_demo(demo, document, tmp_path):
    ladle("sign-in", "rita", env=demo).check_returncode()
    unpacked = demo["LADLE_DATA"].removesuffix("/.demo")
    wanted = [step.replace("PATH-TO", unpacked) for step in steps(document) if not step.startswith("LADLE_")]
    assert len(wanted) > 4
    for name, text in re.findall(r"`([\w-]+\.\w+)`[^\n`]*:\n\n```\w+\n(.*?)```", (ROOT / document).read_text(), re.DOTALL):
        (tmp_path / name).write_text(text)
    for step in wanted:
        if step.startswith("echo "):
            piped = step.replace("| ladle ", f"| {shlex.join(LADLE)} ")
            subprocess.run(piped, shell=True, cwd=tmp_path, check=True, env=demo)
            continue
        words = shlex.split(step)[1:]
        done = ladle(*words, env=demo, cwd=tmp_path)
        assert done.returncode == FAILS.get(step, 0), f"{step}\n{done.stdout}{done.stderr}"
        assert "Traceback" not in done.stderr


def test_the_calls_of_the_documents_are_answered(demo, tmp_path):
    script = "".join(blocks("docs/api.md", "bash")).replace("http://127.0.0.1:8470", demo["LADLE_URL"])
    done = subprocess.run(
        ["bash", "-euo", "pipefail", "-c", script], capture_output=True, text=True, cwd=tmp_path, timeout=PATIENCE, check=False
    )
    assert done.returncode == 0, done.stdout + done.stderr
    said = done.stdout.splitlines()
    assert (said[:3], "finished" in said, "304" in said) == (["rosa", "runner", "high_users"], True, True)
    assert said[-4:-1] == ["404", "unknown_name", "there is no extract 'high_user'."]
    assert {each.suffix for each in tmp_path.iterdir()} == {".csv", ".etag"}


def test_the_tour_says_what_each_command_of_the_readme_is_for():
    tour = runpy.run_path(str(ROOT / "scripts/tour.py"))
    assert tour["steps"]() == steps("README.md")
    assert [tour["_why"](step) for step in tour["steps"]()] == [*tour["WHY"].values()]


def test_every_code_of_an_error_is_explained():
    """Of the service, the client and the command line; and none that there is not."""
    source = "".join(each.read_text() for each in (ROOT / "src").rglob("*.py"))
    codes = set(re.findall(r'^    code(?:: ClassVar\[str\])? = "(\w+)"$', source, re.M)) - {"error"} | {"not_run"}
    page = (ROOT / "docs/troubleshooting.md").read_text()
    explained = re.findall(r"^\| `(\w+)` \| [^|]+ \| [^|]+ \|$", page, re.M)
    assert explained == sorted(explained)
    assert set(explained) == codes


def test_what_the_page_on_outlines_says_is_what_is_declared():
    for path, text in runpy.run_path(str(ROOT / "scripts/outline_words.py"))["documents"]().items():
        assert path.read_text() == text, f"run scripts/outline_words.py: {path.name} is not what the code declares"


def test_the_readmes_python_runs_on_the_demo(demo, tmp_path):
    [block] = blocks("README.md", "python")
    script = block.replace("http://127.0.0.1:8470", demo["LADLE_URL"])
    done = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, cwd=tmp_path, timeout=PATIENCE, check=False
    )
    assert done.returncode == 0, done.stderr
    assert re.match(r"\d+ \{'serial': 'FW-\d{6}'", done.stdout)


def test_the_demos_rows_depend_on_its_date_alone(demo, tmp_path):
    words = [
        "run",
        "start",
        "monthly_consumption",
        "--data-date",
        "2026-11-24",
        "--formats",
        "csv",
        "--into",
        str(tmp_path),
        "--json",
    ]
    ladle(*words, env=demo).check_returncode()
    [path] = tmp_path.glob("*.csv")
    lines = path.read_text().splitlines()
    assert (len(lines), lines[1]) == (25, 'Alder Fen,North,167,"1,803.163",348.3')


def runs_of(demo, *options):
    return json.loads(ladle("run", "list", "--limit", "500", "--json", *options, env=demo).stdout)


@pytest.mark.long  # a minute of the wall's clock
def test_a_schedule_of_the_demo_is_due_within_two_minutes(demo):
    first = [run["id"] for run in runs_of(demo, "--extract", "monthly_consumption") if run["started_by"] == "rosa"][-1]
    until(lambda: any(run["id"] > first for run in runs_of(demo, "--schedule", "exceedances-hourly")), 120)


def test_two_weeks_lie_behind_the_demo(demo):
    runs = sorted((run for run in runs_of(demo) if run["schedule"]), key=lambda run: run["id"])
    moments = [datetime.fromisoformat(run["queued_at"]) for run in runs]
    assert (moments == sorted(moments), moments[-1] - moments[0] > timedelta(days=12)) == (True, True)
    for run in runs:
        if run["ended_at"]:
            order = [datetime.fromisoformat(run[name]) for name in ("due_at", "queued_at", "started_at", "ended_at")]
            assert order == sorted(order), run["id"]
            assert order[-1] < datetime.now(timezone.utc)
    of = Counter(name for run in runs for name in (run["state"], run["held"], "late" if run["late"] else "") if name)
    assert of["held"] == of["released"] == 1
    assert (of["failed"] >= 2, 3 <= of["late"] <= 6, of["finished"] > 50) == (True, True, True), of
    [again] = [run for run in runs_of(demo, "--extract", "old_repairs") if run["started_by"] == "amir"]
    log = ladle("run", "log", str(again["id"]), env=demo).stdout
    assert log.startswith(again["started_at"][:10])
    said = ladle("alert", "list", env=demo).stdout
    assert all(words in said for words in ("works in live is back", "night-flow-daily is in time again", "is released"))


def test_every_verb_is_in_the_reference_and_every_command_shown_is_one(capsys):
    shown = re.findall(
        r"^\| `(\w[\w-]*)` \| (.*) \|$", (ROOT / "docs/reference.md").read_text().split("## The service's")[0], re.M
    )
    verbs = {noun: set(re.findall(r"`([\w-]+)`", words)) for noun, words in shown}
    for noun in NOUNS:
        with pytest.raises(SystemExit):
            command_line().parse_args([noun, "--help"])
        assert verbs[noun] == set(re.findall(r"^    ([a-z-]+)(?: |$)", capsys.readouterr().out, re.M)), noun
    for document in PAGES:
        for step in steps(document):
            if step.startswith("ladle "):
                command_line().parse_args(shlex.split(step)[1:])


def no_such(command):
    """What of a command, as a text shows it, the command line does not know; its names and values may stand for others."""
    at, words = command_line(), command.split()[1:]
    while groups := [each.choices for each in at._actions if isinstance(each, argparse._SubParsersAction)]:
        if not words or words[0] in ("…", "NOUN", "{name}"):
            return None
        for word in words[0].split("|"):
            if word not in groups[0]:
                return word
        at = groups[0][words.pop(0).split("|")[0]]
    known = {option for each in at._actions for option in each.option_strings}
    return next((each for each in re.findall(r"(?<![\w-])--[\w-]+", " ".join(words)) if each not in known), None)


def test_every_command_that_a_text_names_is_one():
    """In a line of a page, and in what the service, the command line and the console say."""
    named = f"({'|'.join(NOUNS)}|status|find|sign-in|sign-out)"
    pages = [page for page in [*ROOT.glob("*.md"), *(ROOT / "docs").glob("*.md")] if page.name != "CHANGELOG.md"]
    texts = [(page, re.findall(r"`(ladle [^`]+)`", page.read_text())) for page in pages]
    code = [*(ROOT / "src").rglob("*.py"), *(ROOT / "console/src").rglob("*.ts*")]
    texts += [(page, re.findall(rf"\bladle {named}\b([^\"'`,;.<\n]*)", page.read_text())) for page in code]
    told = [(page.name, each if isinstance(each, str) else f"ladle {''.join(each)}") for page, found in texts for each in found]
    assert len(told) > 300
    assert [(page, command, no_such(command)) for page, command in told if no_such(command)] == []


def test_the_pages_name_all_that_there_is():
    """Guards with their settings, kinds of alerts, engines; and nothing that there is not."""
    page, readme = (ROOT / "docs/reference.md").read_text(), (ROOT / "README.md").read_text()
    table = re.findall(r"^\| `(\w+)` \|([^|]*)\|", page.split("## Guards")[1].split("## Alerts")[0], re.M)
    told = {kind: re.findall(r"`(\w+)", re.sub(r"\([^)]*\)", "", given)) for kind, given in table}
    assert told == {kind: [*given] for kind, given in KINDS.items()}
    [named] = re.findall(r"^Kinds: (.*?)\.", page.split("## Alerts")[1], re.M | re.S)
    assert re.findall(r"`(\w+)`", named) == [*alerts.KINDS]
    for engine in ENGINES.values():
        assert engine.title.lower() in readme.replace("\n", " ").lower(), engine.name
        assert engine.title.lower() in (ROOT / "docs/sources.md").read_text().lower(), engine.name


def test_every_option_stands_in_the_formats_page_as_it_is_declared(demo):
    told = ladle("format", "list", "--json", env=demo)
    page = (ROOT / "docs" / "formats.md").read_text()
    for form in json.loads(told.stdout):
        for option in form["options"]:
            assert re.search(rf"\| `{option['name']}` \| [^|]+ \| {re.escape(option['note'].replace('|', '/'))}", page), (
                form["name"],
                option,
            )


def test_names_are_completed_from_the_service(demo):
    line = "ladle run start mon"
    asked = demo | {
        "_ARGCOMPLETE": "1",
        "COMP_LINE": line,
        "COMP_POINT": str(len(line)),
        "_ARGCOMPLETE_SUPPRESS_SPACE": "1",
        "_ARGCOMPLETE_STDOUT_FILENAME": "/dev/stdout",
    }
    done = subprocess.run([*LADLE], env=asked, capture_output=True, text=True, timeout=PATIENCE, check=False)
    assert "monthly_consumption" in done.stdout, done.stderr
