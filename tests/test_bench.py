"""The measurements can be made: each way to call them, with a thousand rows; what they write, and what is left when they are ended."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import until

ROOT = Path(__file__).parents[1]
ROWS = "--rows=1000"
LANE = "SQLite CSV, ours"


@pytest.fixture
def page(tmp_path):
    """A copy of the page that stands in the documents."""
    return Path(shutil.copy(ROOT / "docs/benchmarks.md", tmp_path / "page.md"))


@pytest.fixture
def parts(monkeypatch):
    monkeypatch.syspath_prepend(str(ROOT / "scripts"))
    from bench_page import BenchPage

    return lambda path: BenchPage(path)


def measured(*words, program="bench.py", status=0):
    done = subprocess.run([sys.executable, f"scripts/{program}", *words], cwd=ROOT, capture_output=True, text=True, check=False)
    assert done.returncode == status, done.stdout + done.stderr
    return done.stdout + done.stderr


def test_a_part_that_is_put_in_leaves_the_others_as_they_stand(page, parts):
    before = parts(page)
    assert {"", "Wall time", "Memory", "Combining"} <= {*before.parts}
    parts(page).put("Memory", ["| lane | seconds | peak MB |", "|---|---:|---:|", "| sqlite csv, 10 rows | 1.0 | 2 |"])
    after = parts(page)
    assert {head: text for head, text in after.parts.items() if head != "Memory"} == {
        head: text for head, text in before.parts.items() if head != "Memory"
    }
    assert after.lines("Memory") == {"sqlite csv, 10 rows": "| sqlite csv, 10 rows | 1.0 | 2 |"}
    text = page.read_text()
    parts(page).put("Memory", after.parts["Memory"].splitlines())
    assert page.read_text() == text
    parts(page).put("New", ["words"])
    assert page.read_text() == text + "\n## New\n\nwords\n"


def test_lanes_and_memory_are_measured_into_the_page(page, parts):
    before = parts(page)
    assert LANE in measured(LANE, ROWS, f"--page={page}")
    after = parts(page)
    changed = {name for name, line in after.lines("").items() if before.lines("")[name] != line}
    assert (changed, list(after.lines(""))) == ({LANE}, list(before.lines("")))
    assert after.parts["Combining"] == before.parts["Combining"]
    measured("sqlite", ROWS, "--memory", f"--page={page}")
    assert {"sqlite csv, 1,000 rows", "sqlite csv, 10,000 rows"} == {*parts(page).lines("Memory")} - {*before.lines("Memory")}
    assert "no lane has 'nowhere' in its name. There are: PostgreSQL CSV" in measured("nowhere", ROWS, status=1)


def test_a_measurement_that_is_ended_leaves_nothing_behind(home):
    folder = home / "measured"
    folder.mkdir()
    folder.chmod(0o1777)  # servers of other accounts put their sockets there
    environment = os.environ | {"TMPDIR": str(folder)}
    words = [sys.executable, "scripts/bench.py", LANE, ROWS, f"--page={folder}/page.md"]
    with subprocess.Popen(words, cwd=ROOT, env=environment, stdout=subprocess.PIPE, text=True) as running:
        assert running.stdout.readline().startswith("round 0")
        running.send_signal(signal.SIGTERM)
        running.stdout.read()
    assert running.returncode == 143
    until(lambda: not subprocess.run(["pgrep", "-f", str(folder)], capture_output=True, text=True, check=False).stdout)
    assert [path.name for path in folder.iterdir() if not path.name.endswith(".sock")] == []


@pytest.mark.long  # it brings libraries to compare with, and measures each lane seven times twice
def test_every_way_to_measure(page, parts):
    bench = str(ROOT / "scripts/bench")
    for words in (["--quick", ROWS], [ROWS, f"--page={page}"], ["--memory", ROWS, f"--page={page}"],
                  ["--combining", ROWS, f"--page={page}"], ["--against=HEAD", ROWS, LANE]):  # fmt: skip
        done = subprocess.run([bench, *words], cwd=ROOT, capture_output=True, text=True, check=False)
        assert done.returncode in ((0, 1) if words[0] == "--against=HEAD" else (0,)), done.stdout + done.stderr
    assert "1,000 grouped" in parts(page).parts["Combining"]
    assert "within 3 %" in done.stdout or "beyond 3 %" in done.stdout
