"""Nothing that tests start outlives them, however they end: a process of its own waits for their end and ends the rest.

Every process of a run of tests carries its mark in the environment, also those with sessions and accounts of their own.
"""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import uuid
from pathlib import Path

MARK = "LADLE_TESTS_RUN"
GENTLE_SECONDS = 10


def template_of(mark: str) -> Path:
    """Where that run of tests keeps the server that it copies."""
    return Path(tempfile.gettempdir()) / f"ladle-template-{mark}"


def traces_of(mark: str) -> Path:
    """Where hostile statements of that run would leave a file."""
    return Path(tempfile.gettempdir()) / f"ladle-traces-{mark}"


def watch() -> subprocess.Popen | None:
    """Mark this process and start the one that waits; None where this is a process of a run that has one."""
    if MARK in os.environ:
        return None
    os.environ[MARK] = uuid.uuid4().hex
    environment = {key: value for key, value in os.environ.items() if key != MARK}
    command = [sys.executable, "-m", "tests.janitor", os.environ[MARK]]
    return subprocess.Popen(
        command, stdin=subprocess.PIPE, env=environment, start_new_session=True, cwd=Path(__file__).parents[1]
    )


def marked(mark: str) -> list[int]:
    """Numbers of the processes that carry the mark."""
    wanted, found = f"{MARK}={mark}".encode(), []
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            if wanted in (folder / "environ").read_bytes().split(b"\0"):
                found.append(int(folder.name))
        except OSError:
            continue
    return found


def end(mark: str) -> None:
    """All of them: asked first, so that servers of databases close their files, then by force."""
    for number in (signal.SIGTERM, signal.SIGINT, signal.SIGKILL):
        deadline = time.monotonic() + GENTLE_SECONDS
        for pid in marked(mark):
            try:
                os.kill(pid, number)
            except OSError:
                continue
        while marked(mark) and time.monotonic() < deadline:
            time.sleep(0.1)


if __name__ == "__main__":
    for stopper in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        signal.signal(stopper, signal.SIG_IGN)
    while os.read(0, 64):
        continue
    end(sys.argv[1])
    for folder in (template_of(sys.argv[1]), traces_of(sys.argv[1])):
        shutil.rmtree(folder, ignore_errors=True)
