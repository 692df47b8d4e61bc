"""Starting a child and talking to it."""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from patient_ladle.core.keepable import said

PAGE_BYTES = os.sysconf("SC_PAGE_SIZE")
PREFIX = "ladle-child-"


def own_folder() -> tuple[Path, int]:
    """A folder for what one child keeps for a time, and the open lock that says that it is in use."""
    while True:
        made = Path(tempfile.mkdtemp(prefix=PREFIX))
        lock = _locked(made)
        if lock is None:
            continue
        if made.is_dir():  # else it was swept between its making and its lock
            return made, lock
        os.close(lock)


def sweep() -> int:
    """Removes what was left where child and parent were ended by force at once; the number of folders."""
    left = 0
    for folder in Path(tempfile.gettempdir()).glob(PREFIX + "*"):
        lock = _locked(folder)
        if lock is not None:
            shutil.rmtree(folder, ignore_errors=True)
            os.close(lock)
            left += 1
    return left


def _locked(folder: Path) -> int | None:
    """Its lock, open; None where somebody has it, or the folder is gone or another user's."""
    try:
        opened = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
    except OSError:
        return None
    try:
        fcntl.flock(opened, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(opened)
        return None
    return opened


class Child:
    """One child process with a job, or waiting for its first; its standard error goes to the service's log."""

    def __init__(self, job: dict[str, Any] | None = None) -> None:
        self.jobs = 0
        self.heard: list[dict[str, Any]] = []
        self.rest = b""
        self.own, lock = own_folder()
        """Where it keeps what is temporary: gone with it, or by the next ``sweep``."""
        self.process = subprocess.Popen(
            [sys.executable, "-m", "patient_ladle.service.children.child"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            encoding="utf-8",
            start_new_session=True,
            env=os.environ | {"TMPDIR": str(self.own)},
            pass_fds=(lock,),
        )
        os.close(lock)  # the child has it from now on, until its end
        if job is not None:
            self.say(job)

    def resident_bytes(self) -> int:
        """Memory that it holds now; 0 once it is gone."""
        try:
            return int(Path(f"/proc/{self.process.pid}/statm").read_text().split()[1]) * PAGE_BYTES
        except (OSError, IndexError):
            return 0

    def say(self, words: dict[str, Any]) -> None:
        """One line to the child; silence when it is gone already."""
        assert self.process.stdin is not None
        try:
            self.process.stdin.write(json.dumps(words) + "\n")
            self.process.stdin.flush()
        except (BrokenPipeError, ValueError):
            return

    def told(self) -> Iterator[dict[str, Any]]:
        """What the child tells, until it ends."""
        while self._listen():
            yield self.heard.pop(0)

    def told_together(self) -> Iterator[list[dict[str, Any]]]:
        """The same, all that is there each time."""
        while self._listen():
            heard, self.heard = self.heard, []
            yield heard

    def _listen(self) -> bool:
        """Until something is heard; False once the child has ended."""
        assert self.process.stdout is not None
        while not self.heard:
            piece = os.read(self.process.stdout.fileno(), 1 << 16)
            if not piece:
                return False
            *lines, self.rest = (self.rest + piece).split(b"\n")
            self.heard += map(said, lines)
        return True

    def kill(self) -> None:
        """End it at once."""
        self.process.kill()

    def wait(self) -> int:
        """Exit status; negative is the signal that ended it."""
        status = self.process.wait()
        shutil.rmtree(self.own, ignore_errors=True)
        for pipe in (self.process.stdin, self.process.stdout):
            try:
                if pipe:
                    pipe.close()
            except BrokenPipeError:
                continue  # what was left unsaid has no reader any more
        return status
