"""What a child keeps for a time is gone with it, also where it and its parent were ended by force."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import pytest

from patient_ladle.service.children.launch import Child, sweep
from tests.command import PATIENCE

PARENT = """
from patient_ladle.service.children.launch import Child
child = Child()
(child.own / "half").write_text("written")
print(child.process.pid, child.own, flush=True)
child.wait()
"""


@pytest.fixture
def temporary(tmp_path, monkeypatch):
    """A folder for temporary files of its own, for this process and those it starts."""
    monkeypatch.setenv("TMPDIR", str(tmp_path))
    monkeypatch.setattr(tempfile, "tempdir", None)
    yield tmp_path
    tempfile.tempdir = None


@pytest.fixture
def parent(temporary):
    """A process that minds one child: itself, the child's number, the child's folder."""
    process = subprocess.Popen([sys.executable, "-c", PARENT], stdout=subprocess.PIPE, text=True)
    number, folder = process.stdout.readline().split()
    yield process, int(number), Path(folder)
    process.kill()
    process.wait()
    process.stdout.close()


def until(true):
    """Waits for it."""
    ends = time.monotonic() + PATIENCE
    while not true():
        assert time.monotonic() < ends
        time.sleep(0.05)


def test_a_child_whose_parent_is_killed_leaves_nothing(parent):
    process, _, folder = parent
    assert (folder / "half").is_file()
    process.kill()
    until(lambda: not folder.exists())


def test_what_both_left_is_swept_and_what_is_in_use_is_not(parent, temporary):
    process, number, _ = parent
    used = Child()
    assert sweep() == 0
    os.kill(number, signal.SIGSTOP)  # so that it does not see its parent's end
    process.kill()
    process.wait()
    assert sweep() == 0, "the child may be at work still"
    os.kill(number, signal.SIGKILL)
    until(lambda: sweep() == 1)
    assert [*temporary.iterdir()] == [used.own]
    used.kill()
    used.wait()
    assert [*temporary.iterdir()] == []
