"""``ladle service start``: brings the schema up, then web, worker and scheduler as children, restarted with back-off."""

from __future__ import annotations

import fcntl
import http.client
import json
import logging
import os
import secrets
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.request
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import IO

import psycopg

from patient_ladle import variables

from . import ledger_database
from .cluster import Cluster
from .private_server import ServerFailed

log = logging.getLogger("ladle.service")

MIGRATE_LOCK = 0x1AD1E02
STEADY_SECONDS = 30.0
"""A child that lived so long starts its back-off anew."""
WATCH_SECONDS = 10.0
HANGS_AFTER = 3
"""Times ``LADLE_STALE_SECONDS``: people are told first."""
STRANGER = 78
"""Exit status of a part that refuses to run, for ledger, keys, store and data directory do not belong together."""
STOP_SECONDS = 20.0
"""From being told to end to being ended; a worker has its own time before."""


@dataclass(slots=True)
class _Part:
    """One child of the supervisor."""

    name: str
    command: list[str]
    process: subprocess.Popen[bytes] | None = None
    began: float = 0.0
    wait: float = 0.5
    again_at: float = 0.0

    def start(self) -> None:
        before = ["--after", str(self.process.pid)] if self.process and self.name == "worker" else []
        self.process = subprocess.Popen([*self.command, *before], stdin=subprocess.PIPE)
        self.began = time.monotonic()


def _own(*words: str) -> list[str]:
    return [sys.executable, "-m", "patient_ladle.service", *words]


def taken_data_directory(data: Path) -> IO[str]:
    """One service a data directory: a lock that goes with the file given back. Raises ServerFailed."""
    lock = open(data / "service.lock", "w")  # noqa: SIM115  # held for the life of the process
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        lock.close()
        raise ServerFailed(
            f"another service runs on the data directory '{data}'.", "Stop it first, or choose another: LADLE_DATA=…"
        ) from None
    return lock


def _descendants(pid: int) -> list[int]:
    """Processes below one: what is frozen does not see that the one above it is gone."""
    found: list[int] = []
    try:
        for number in Path(f"/proc/{pid}/task/{pid}/children").read_text().split():
            found += [*_descendants(int(number)), int(number)]
    except OSError:
        pass
    return found


class _Watch:
    """Looks, in a thread of its own, whether the parts do what they are there for: the web answers, the scheduler looks, the
    worker beats. One that lives and does nothing for so long, while the service database answered, is to be ended."""

    def __init__(self, url: str, seconds: float) -> None:
        self.url, self.seconds = url, seconds
        self.since: dict[tuple[str, int], tuple[object, float]] = {}
        self.hanging: set[int] = set()

    def work(self, parts: Sequence[_Part], stop: threading.Event) -> None:
        """Until asked to stop. A database that hangs keeps this thread waiting, and nothing else."""
        while not stop.wait(min(WATCH_SECONDS, self.seconds / 2)):
            try:
                signs = self._signs()
            except psycopg.Error:
                self.since.clear()  # nobody is blamed for what the database does not do
                continue
            for part in parts:
                if part.process is not None and part.name in signs:
                    self._judge(part, part.process.pid, signs[part.name])

    def _judge(self, part: _Part, pid: int, signs: Mapping[object, object]) -> None:
        key, now = (part.name, pid), time.monotonic()
        sign = signs.get(pid, signs.get(None))
        before, since = self.since.setdefault(key, (sign, now))
        if sign != before or now < part.began + self.seconds:
            self.since[key] = (sign, now)
        elif now - since > self.seconds:
            self.hanging.add(pid)

    def _signs(self) -> dict[str, Mapping[object, object]]:
        """Of each part what changes while it works, by process or for all of it."""
        with psycopg.connect(os.environ["LADLE_DATABASE_URL"], connect_timeout=5, autocommit=True) as connection:
            beats = connection.execute(
                "select pid, beat from runs_worker where host = %s and gone_at is null", [socket.gethostname()]
            )
            pulse = connection.execute("select at from runs_pulse where name = 'scheduler'").fetchone()
            found: dict[str, Mapping[object, object]] = {"worker": dict(beats.fetchall()), "scheduler": {None: pulse}}
        try:
            with urllib.request.urlopen(f"{self.url}/livez", timeout=5) as answer:  # noqa: S310  # our own address
                found["web"] = {None: (answer.status, time.monotonic())}
        except OSError:
            found["web"] = {None: "no answer"}
        return found


class Supervisor:
    """Starts everything, keeps it up, stops it together."""

    def __init__(self, data: Path, max_runs: int, demo: bool, adopt: bool = False) -> None:
        self.data, self.status, self.served = data, 0, False
        self.adopt = ["--adopt"] if adopt else []
        self.stop = threading.Event()
        self.cluster: Cluster | None = None
        self.started_as = secrets.token_hex(8)
        self.parts = [
            _Part("web", _own("web", "--started-as", self.started_as, *self.adopt)),
            _Part("worker", _own("worker", "--max-runs", str(max_runs))),
            _Part("scheduler", _own("scheduler")),
        ]
        if demo:
            self.parts.append(_Part("demo", _own("demo")))

    def _bring_up_database(self) -> None:
        if not os.environ.get("LADLE_DATABASE_URL"):
            self.cluster = Cluster(self.data, "ledger")
            self.cluster.start()
            self.cluster.make_database("ladle")
            os.environ["LADLE_DATABASE_URL"] = self.cluster.url("ladle")
        with ledger_database.reached() as connection:
            connection.execute("select pg_advisory_lock(%s)", [MIGRATE_LOCK])
            schema = ledger_database.schema_of(connection)
            schema.refuse_newer()
            if (
                not ledger_database.is_ready(connection, schema)
                and subprocess.run(_own("migrate", *self.adopt), check=False).returncode
            ):
                raise ServerFailed("the service database could not be brought up to date.", "What stands above says why.")

    def _wait_until_served(self, url: str) -> bool:
        while not self.stop.is_set():
            self._keep_up()
            try:
                with urllib.request.urlopen(f"{url}/healthz", timeout=2) as answer:  # noqa: S310  # our own address
                    if answer.headers.get("X-Started-As") == self.started_as:
                        return bool(json.load(answer)["status"] == "well")
                raise ServerFailed(f"another service answers at {url}.", "Stop it, or set LADLE_PORT to a free port.")
            except (OSError, http.client.HTTPException):  # a web that has just begun gives the others time to do so too
                time.sleep(0.05)
        return False

    def _keep_database_up(self) -> None:
        """A private server that ended is started again; on another port, all that use it begin anew."""
        if self.cluster is None or self.cluster.process is None or self.cluster.process.poll() is None:
            return
        log.warning("the private database server ended with status %s; it is started again", self.cluster.process.returncode)
        try:
            self.cluster.start()
        except ServerFailed as error:
            log.error("%s %s", error, error.hint)  # the next look tries again
            return
        url = self.cluster.url("ladle")
        if url != os.environ["LADLE_DATABASE_URL"]:
            os.environ["LADLE_DATABASE_URL"] = url
            for part in self.parts:
                if part.process is not None:
                    part.process.terminate()

    def _end_what_hangs(self, watch: _Watch) -> None:
        for part in self.parts:
            if part.process is not None and part.process.pid in watch.hanging:
                watch.hanging.discard(part.process.pid)
                log.error("%s lives and has done nothing for %.0f s; it is ended and started anew", part.name, watch.seconds)
                for number in (*_descendants(part.process.pid), part.process.pid):
                    with suppress(ProcessLookupError):
                        os.kill(number, signal.SIGKILL)

    def _keep_up(self) -> None:
        self._keep_database_up()
        now = time.monotonic()
        for part in self.parts:
            if part.process is None or part.process.poll() is None:
                continue
            if part.process.returncode == STRANGER and not self.served:  # it has said why, and this start is refused
                self.status = 1
                self.stop.set()
                return
            if not part.again_at:
                if now - part.began > STEADY_SECONDS:
                    part.wait = 0.5
                log.warning("%s ended with status %s; again in %.1f s", part.name, part.process.returncode, part.wait)
                part.again_at = now + part.wait
                part.wait = min(part.wait * 2, 30.0)
            elif now >= part.again_at:
                part.again_at = 0.0
                part.start()

    def run(self, url: str) -> int:
        """Until SIGTERM or SIGINT; returns the exit status."""
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: self.stop.set())
        self.lock = taken_data_directory(self.data)
        try:
            self._bring_up_database()
            web, *others = self.parts
            web.start()  # the page first: whoever waits for it should not wait for the rest as well
            if self._wait_until_served(url):
                print(f"ready: {url}", flush=True)
            self.served = True  # from now on a store that is away for a while is no reason to end everything
            web.command = _own(
                "web", "--started-as", self.started_as
            )  # started anew, it asks again whether all belongs together
            for part in others if not self.stop.is_set() else []:
                part.start()
            (self.data / "service.json").write_text(json.dumps({"url": url, "pid": os.getpid()}))
            watch = _Watch(url, HANGS_AFTER * variables.STALE_SECONDS.value())
            threading.Thread(target=watch.work, args=(self.parts, self.stop), daemon=True).start()
            while not self.stop.wait(0.5):
                self._end_what_hangs(watch)
                self._keep_up()
        finally:
            self._end()
        return self.status

    def _end(self) -> None:
        for part in self.parts:
            if part.process is not None and part.process.poll() is None:
                part.process.terminate()
        deadline = time.monotonic() + STOP_SECONDS + variables.STOP_SECONDS.value()
        for part in self.parts:
            if part.process is not None:
                try:
                    part.process.wait(max(deadline - time.monotonic(), 0.1))
                except subprocess.TimeoutExpired:
                    part.process.kill()
                    part.process.wait()
        if self.cluster is not None:
            self.cluster.stop()
        (self.data / "service.json").unlink(missing_ok=True)
