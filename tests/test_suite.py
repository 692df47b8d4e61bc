"""What a run of all tests says in the end: on a small tree of tests that fail once, always, or never."""

from __future__ import annotations

import os
import re
import runpy
import subprocess
import sys
from pathlib import Path

import pytest

from tests import profile
from tests.command import PATIENCE
from tests.conftest import until

ROOT = Path(__file__).parents[1]
CONFTEST = """
import json, os
def pytest_runtest_logreport(report):
    if "PYTEST_XDIST_WORKER" not in os.environ:
        with open(os.environ["LADLE_TOLD"], "a") as told:
            told.write(json.dumps({"name": report.nodeid, "outcome": report.outcome, "seconds": 0.0 if report.when != "call" else SECONDS,
                                   "generated": False, "found": []}) + chr(10))
"""
ONCE = """
import pathlib
def test_once():
    mark = pathlib.Path(__file__).with_suffix(".mark")
    there = mark.exists()
    mark.touch()
    assert there
"""
WELL = "def test_well():\n    pass\n"
NEVER = "def test_never():\n    assert False\n"


@pytest.fixture
def suite(tmp_path, monkeypatch, capfd):
    """``suite(path=text, …)``: exit status and the last lines of a run of these files."""
    made = runpy.run_path(str(ROOT / "scripts/suite.py"))
    for name in ("PYTEST_XDIST_WORKER", "PYTEST_XDIST_WORKER_COUNT", "PYTEST_ADDOPTS", "PYTEST_PLUGINS"):
        monkeypatch.delenv(name, raising=False)

    def carried_out(files, seconds=1.0):
        for path, text in {"tests/conftest.py": CONFTEST.replace("SECONDS", str(seconds)), **files}.items():
            (tmp_path / path).parent.mkdir(parents=True, exist_ok=True)
            (tmp_path / path).write_text(text)
        (tmp_path / "tests" / "budget.toml").write_text('[minutes]\n"tests/browser" = 1\n"tests/service" = 1\n')
        (tmp_path / "pytest.ini").write_text("[pytest]\naddopts = -p no:cacheprovider\n")
        history = made["History"](tmp_path / "remembered.json")
        status = made["whole"](tmp_path, dict(os.environ), history)
        return status, capfd.readouterr().out.split(" min\n", 1)[1].splitlines()

    return carried_out


def test_what_passes_alone_is_named_and_forgiven_where_it_may_be_and_once_only(suite, tmp_path):
    files = {"tests/browser/test_a.py": ONCE, "tests/service/test_ledger.py": WELL}
    status, said = suite(files)
    assert (status, said[0], said[-1]) == (0, "unsteady: tests/browser/test_a.py::test_once", "tests: 2 passed, 0 failed")
    (tmp_path / "tests/browser/test_a.mark").unlink()
    status, said = suite(files)
    assert (status, said[1]) == (1, "unsteady 2 times in 10 runs: tests/browser/test_a.py::test_once")


def test_what_fails_again_fails_and_what_must_hold_each_time_is_not_forgiven(suite):
    status, said = suite({"tests/browser/test_a.py": NEVER, "tests/service/test_ledger.py": ONCE})
    assert (status, said[-1]) == (1, "tests: 1 passed, 1 failed")
    assert said[:3] == [
        "unsteady: tests/service/test_ledger.py::test_once",
        "failed: tests/browser/test_a.py::test_never",
        "failed, passed alone, and is none that may: tests/service/test_ledger.py::test_once",
    ]


def test_a_folder_that_takes_half_as_long_again_as_it_may_is_told(suite):
    status, said = suite({"tests/browser/test_a.py": WELL}, seconds=91.0)
    assert (status, said[0]) == (0, "over its budget: tests/browser took 1.5 min of 1")


def test_a_run_that_is_ended_from_outside_ends_its_tests(tmp_path):
    (tmp_path / "test_waits.py").write_text(
        "import os, signal\n\n\ndef test_waits():\n    print('waits', os.getpid(), flush=True)\n    signal.pause()\n"
    )
    words = [sys.executable, "scripts/suite.py", "-s", "-p", "no:cacheprovider", "--rootdir", str(tmp_path), str(tmp_path)]
    with subprocess.Popen(words, cwd=ROOT, stdout=subprocess.PIPE, text=True) as running:
        pid = next(found[1] for line in running.stdout if (found := re.search(r"waits (\d+)", line)))
        running.terminate()
        running.wait(PATIENCE)
    assert running.returncode == 143
    until(lambda: not Path("/proc", pid).exists(), 30, "the tests go on")


def test_every_folder_of_tests_has_a_budget_and_who_may_be_unsteady_is_there():
    made = runpy.run_path(str(ROOT / "scripts/suite.py"))
    folders = {f"tests/{path.parent.relative_to(ROOT / 'tests').parts[0]}" for path in (ROOT / "tests").glob("*/**/test_*.py")}
    budget = made["tomllib"].loads((ROOT / "tests/budget.toml").read_text())["minutes"]
    assert folders - {"tests/latency"} | {"tests"} == set(budget)
    assert [path for path in made["FORGIVEN"] if not (ROOT / path).exists()] == []


def test_the_short_form_draws_nothing_anew():
    assert (profile.LONG, profile.SEED) == (False, 1) or profile.LONG
    asked = [
        sys.executable,
        "-c",
        "from tests import profile; profile.load(); import hypothesis as h; s = h.settings(); print(s.derandomize, s.database)",
    ]
    short = os.environ | {"LADLE_TESTS": "short"}
    assert subprocess.run(asked, cwd=ROOT, env=short, capture_output=True, text=True, check=True).stdout == "True None\n"
    source = "".join(path.read_text() for path in (ROOT / "tests").rglob("test_*.py") if path.name != "test_suite.py")
    assert "max_examples=" not in source.replace("max_examples=NIGHTS", "").replace("max_examples=count", ""), (
        "profile.examples says how many"
    )
