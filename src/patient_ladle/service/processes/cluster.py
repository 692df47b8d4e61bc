"""A private PostgreSQL cluster on loopback: made once, adopted or cleanly stopped when it was left behind.

PostgreSQL refuses to run as root, so root's clusters run under the account ``postgres``. That account cannot enter a
folder below one of mode 0700, so where it could not, the cluster lies below ``/var/lib/patient-ladle`` and a marker
in the data directory says where.
"""

from __future__ import annotations

import hashlib
import os
import pwd
import secrets
import shutil
import signal
import socket
import stat
import subprocess
import time
from pathlib import Path

import psycopg

from patient_ladle.core.errors import LadleError
from patient_ladle.service.common.keys import kept_secret

ACCOUNT = "postgres"
ELSEWHERE = Path("/var/lib/patient-ladle")
START_SECONDS = 60


class ClusterFailed(LadleError):
    """The private database server could not be made or started."""

    code = "service_away"


def binaries() -> Path:
    """The folder of initdb and postgres, the newest there is. Raises ClusterFailed."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"), key=lambda p: float(p.parts[-3]))
    if not found:
        raise ClusterFailed("PostgreSQL's server programs are not installed.", "Install Debian's package postgresql.")
    return found[-1].parent


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


class Cluster:
    """One private server below ``home``: its data, its port, its superuser's generated password."""

    def __init__(self, home: Path, name: str) -> None:
        self.name = name
        self.as_root = os.geteuid() == 0
        self.keys = home / "keys"
        home.mkdir(parents=True, exist_ok=True)
        self.home = home / name
        if self.as_root and not _enterable(home):
            digest = hashlib.sha256(str(home.resolve()).encode()).hexdigest()[:12]
            self.home = ELSEWHERE / digest / name
            (home / f"{name}-is-elsewhere.txt").write_text(f"{self.home}\n")
        self.data = self.home / "data"
        self.password = kept_secret(self.keys / f"{name}.password", secrets.token_urlsafe(24))
        self.process: subprocess.Popen[bytes] | None = None
        self.port = 0

    def url(self, database: str = "postgres", user: str = "ladle", password: str | None = None) -> str:
        """A connection URL as superuser, or as the user given."""
        return f"postgresql://{user}:{password or self.password}@127.0.0.1:{self.port}/{database}"

    def _as_account(self, command: list[str]) -> list[str]:
        return ["runuser", "-u", ACCOUNT, "--", *command] if self.as_root else command

    def _make(self) -> None:
        shutil.rmtree(self.home, ignore_errors=True)
        self.home.mkdir(parents=True)
        words = self.home / "initial-password"
        descriptor = os.open(words, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        os.write(descriptor, self.password.encode() + b"\n")
        os.close(descriptor)
        if self.as_root:
            account = pwd.getpwnam(ACCOUNT)
            for path in (self.home, words):
                os.chown(path, account.pw_uid, account.pw_gid)
        command = [str(binaries() / "initdb"), "-D", str(self.data), "-U", "ladle", "-A", "scram-sha-256"]
        command += [f"--pwfile={words}", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync"]
        made = subprocess.run(self._as_account(command), capture_output=True, text=True, check=False, cwd="/")
        words.unlink()
        if made.returncode:
            said = (made.stderr.strip().splitlines() or ["it said nothing"])[-1]
            raise ClusterFailed(f"initdb could not make '{self.data}': {said}.", "Check the rights of the data directory.")

    def _left_behind(self) -> int:
        """Process id of a server that still runs on this data, or 0."""
        try:
            pid = int((self.data / "postmaster.pid").read_text().splitlines()[0])
            os.kill(pid, 0)
            command = Path(f"/proc/{pid}/cmdline").read_bytes()
        except (OSError, ValueError, IndexError):
            return 0
        return pid if str(self.data).encode() in command else 0

    def start(self) -> None:
        """Make the cluster if it is not there, end a server left behind, start. Raises ClusterFailed."""
        if not (self.data / "PG_VERSION").is_file():
            self._make()
        stale = self._left_behind()
        if stale:
            os.kill(stale, signal.SIGINT)
            deadline = time.monotonic() + START_SECONDS
            while self._left_behind() and time.monotonic() < deadline:
                time.sleep(0.05)
        kept = self.keys / f"{self.name}.port"
        self.port = free_port(int(kept.read_text()) if kept.is_file() else 0)
        kept.write_text(str(self.port))
        command = [str(binaries() / "postgres"), "-D", str(self.data), "-p", str(self.port)]
        for setting in ("listen_addresses=127.0.0.1", "unix_socket_directories=", "shared_buffers=64MB", "max_connections=120"):
            command += ["-c", setting]
        with open(self.keys.parent / f"{self.name}.log", "ab") as log:
            self.process = subprocess.Popen(
                self._as_account(command), stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True, cwd="/"
            )
        self._wait_until_ready()

    def _wait_until_ready(self) -> None:
        deadline = time.monotonic() + START_SECONDS
        while time.monotonic() < deadline:
            assert self.process is not None
            if self.process.poll() is not None:
                break
            try:
                psycopg.connect(self.url(), connect_timeout=2).close()
                return
            except psycopg.Error:
                time.sleep(0.05)
        raise ClusterFailed(
            f"the private database server '{self.name}' did not start.", f"Look into {self.keys.parent / (self.name + '.log')}."
        )

    def make_database(self, name: str) -> None:
        """Create the database if it is not there."""
        with psycopg.connect(self.url(), autocommit=True) as connection:
            if not connection.execute("select 1 from pg_database where datname = %s", [name]).fetchone():
                connection.execute(f'create database "{name}"')

    def stop(self) -> None:
        """Fast, clean shutdown; waits for its end."""
        pid = self._left_behind()
        if pid:
            os.kill(pid, signal.SIGINT)
        if self.process is not None:
            try:
                self.process.wait(30)
            except subprocess.TimeoutExpired:
                self.process.kill()
