"""A private database server on loopback: made once, adopted or cleanly stopped when it was left behind.

Database servers refuse to run as root, so root's servers run under an account of their own. That account cannot enter a
folder below one of mode 0700, so where it could not, the server's home lies below ``/var/lib/patient-ladle`` and a marker
in the data directory says where.
"""

from __future__ import annotations

import hashlib
import os
import pwd
import secrets
import signal
import socket
import stat
import subprocess
import time
from abc import ABC, abstractmethod
from pathlib import Path
from typing import ClassVar

from patient_ladle.core.errors import LadleError
from patient_ladle.service.common.keys import kept_secret

ELSEWHERE = Path("/var/lib/patient-ladle")
BEGUN = "being-made"
"""Stands in a server's home while it is being made."""
START_SECONDS = 300
STOP_SECONDS = 30


class ServerFailed(LadleError):
    """A private database server could not be made or started."""

    code = "server_failed"


def free_port(wanted: int = 0) -> int:
    """A port that nothing listens on at this moment: the wanted one where that is free."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", wanted))
        except OSError:
            probe.bind(("127.0.0.1", 0))
        port: int = probe.getsockname()[1]
    return port


def _enterable(path: Path) -> bool:
    """Can another account walk down to this path?"""
    return all(os.stat(p).st_mode & stat.S_IXOTH for p in (path, *path.parents) if p.exists())


class PrivateServer(ABC):
    """One server below ``home``: its data, its port, its superuser's generated password.

    ``account`` runs it where the service runs as root; ``stop_signal`` is its fast and clean shutdown; ``made_mark`` is
    a file below the data folder that stands there once the server was made.
    """

    account: ClassVar[str]
    stop_signal: ClassVar[signal.Signals]
    made_mark: ClassVar[str]

    def __init__(self, home: Path, name: str) -> None:
        self.name = name
        self.as_root = os.geteuid() == 0
        self.keys = home / "keys"
        home.mkdir(parents=True, exist_ok=True)
        self.home = self._place(home)
        self.data = self.home / "data"
        self.password = kept_secret(self.keys / f"{name}.password", secrets.token_urlsafe(24))
        self.process: subprocess.Popen[bytes] | None = None
        self.port = 0

    def _place(self, home: Path) -> Path:
        """Where it was made, for good; only a new one is put where its account can get to. Raises ServerFailed."""
        here, marker = home / self.name, home / f"{self.name}-is-elsewhere.txt"
        if (here / "data" / self.made_mark).exists():
            return here
        if marker.is_file():
            there = Path(marker.read_text().strip())
            if not there.exists():
                raise ServerFailed(
                    f"the database of '{home}' was made in '{there}', and is not there.",
                    f"Bring that folder back, or restore its backup there. To begin with an empty one, remove '{marker}'.",
                )
            return there
        if here.exists() or not self.as_root or _enterable(home):
            return here
        digest = hashlib.sha256(f"{home.resolve()} {secrets.token_hex(8)}".encode()).hexdigest()[:12]
        marker.write_text(f"{ELSEWHERE / digest / self.name}\n")
        (ELSEWHERE / digest / self.name).mkdir(parents=True)
        return ELSEWHERE / digest / self.name

    @abstractmethod
    def making(self, words: Path) -> list[str]:
        """The command that makes the data folder; ``words`` is a file that holds the superuser's password."""

    @abstractmethod
    def running(self) -> list[str]:
        """The command that runs the server in the foreground, on ``port`` of loopback only."""

    @abstractmethod
    def answers(self) -> bool:
        """Does the server take its superuser's login?"""

    @abstractmethod
    def process_id(self) -> int:
        """The number in the server's own pid file. Raises OSError, ValueError or IndexError where there is none."""

    def once_made(self, words: Path) -> None:  # noqa: B027  # most servers are ready then
        """What is left to do after ``making`` and before the first start."""

    def _as_account(self, command: list[str]) -> list[str]:
        return ["runuser", "-u", self.account, "--", *command] if self.as_root else command

    def _own(self, *paths: Path) -> None:
        if self.as_root:
            account = pwd.getpwnam(self.account)
            for path in paths:
                os.chown(path, account.pw_uid, account.pw_gid)

    def make(self) -> None:
        """Make the data folder where there is none; nothing that is there is ever removed. Raises ServerFailed."""
        begun = self.home / BEGUN
        if begun.exists():  # an earlier try was broken off in its midst
            aside = self.home.with_name(f"{self.name}.unfinished-{secrets.token_hex(4)}")
            self.home.rename(aside)
        elif self.home.exists() and any(self.home.iterdir()):
            raise ServerFailed(
                f"'{self.home}' holds files and no whole database: '{self.data / self.made_mark}' is missing.",
                "Restore it from its backup. To begin with an empty one, move that folder away.",
            )
        self.home.mkdir(parents=True, exist_ok=True)
        begun.touch()
        if self.home.is_relative_to(ELSEWHERE):
            for folder in (self.home.parent, ELSEWHERE):  # its account walks through, and reads nothing there
                folder.chmod(0o711)
        words = self.home / "initial-words"
        descriptor = os.open(words, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        os.write(descriptor, self.password.encode() + b"\n")
        os.close(descriptor)
        self._own(self.home, words)
        made = subprocess.run(self._as_account(self.making(words)), capture_output=True, text=True, check=False, cwd="/")
        if made.returncode:
            words.unlink()
            with open(self.keys.parent / f"{self.name}.log", "a") as log:
                log.write(made.stdout + made.stderr)
            said = (made.stderr.strip().splitlines() or made.stdout.strip().splitlines() or ["it said nothing"])[-1]
            raise ServerFailed(
                f"no database could be made in '{self.data}': {said}.", "Check the rights of the data directory."
            )
        self.once_made(words)
        words.unlink()
        begun.unlink()

    def left_behind(self) -> int:
        """Process id of a server that still runs on this data, or 0."""
        try:
            pid = self.process_id()
            os.kill(pid, 0)
            command = Path(f"/proc/{pid}/cmdline").read_bytes()
        except (OSError, ValueError, IndexError):
            return 0
        return pid if str(self.data).encode() in command else 0

    def start(self) -> None:
        """Make the server if it is not there, end one left behind, start. Raises ServerFailed."""
        if not (self.data / self.made_mark).exists() or (self.home / BEGUN).exists():
            self.make()
        if self.as_root and not _enterable(self.home.parent):
            raise ServerFailed(
                f"the account '{self.account}', which runs the private database server, cannot enter '{self.home.parent}'.",
                "Let others walk through the folders above it (chmod o+x), or move the data directory.",
            )
        stale = self.left_behind()
        if stale:
            os.kill(stale, self.stop_signal)
            deadline = time.monotonic() + START_SECONDS
            while self.left_behind() and time.monotonic() < deadline:
                time.sleep(0.05)
        kept = self.keys / f"{self.name}.port"
        before = kept.read_text().strip() if kept.is_file() else ""
        self.port = free_port(int(before) if before.isdecimal() else 0)  # a crash may have left it empty
        kept.write_text(str(self.port))
        with open(self.keys.parent / f"{self.name}.log", "ab") as log:
            self.process = subprocess.Popen(
                self._as_account(self.running()),
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                start_new_session=True,
                cwd="/",
            )
        self._wait_until_ready()

    def _wait_until_ready(self) -> None:
        deadline = time.monotonic() + START_SECONDS
        while time.monotonic() < deadline:
            assert self.process is not None
            if self.process.poll() is not None:
                break
            if self.answers():
                return
            time.sleep(0.05)
        raise ServerFailed(
            f"the private database server '{self.name}' did not start.", f"Look into {self.keys.parent / (self.name + '.log')}."
        )

    def stop(self) -> None:
        """Fast, clean shutdown; waits for its end."""
        pid = self.left_behind()
        if pid:
            os.kill(pid, self.stop_signal)
        if self.process is not None:
            try:
                self.process.wait(STOP_SECONDS)
            except subprocess.TimeoutExpired:
                self.process.kill()
