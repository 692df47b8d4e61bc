"""``ladle service start``: brings the schema up, then web, worker and scheduler as children, restarted with back-off."""

from __future__ import annotations

import fcntl
import importlib.util
import json
import logging
import os
import signal
import subprocess
import sys
import threading
import time
import urllib.request
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psycopg

from .cluster import Cluster
from .private_server import ServerFailed

log = logging.getLogger("ladle.service")

MIGRATE_LOCK = 0x1AD1E02
STEADY_SECONDS = 30.0
"""A child that lived so long starts its back-off anew."""
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


def _up_to_date(connection: psycopg.Connection[tuple[Any, ...]]) -> bool:
    """Has the database every migration that stands here, and somebody who can sign in? Spares a start two seconds."""
    places = [(path.parent.name, path) for path in Path(__file__).parents[1].glob("*/migrations")]
    for name in ("auth", "contenttypes", "sessions"):
        spec = importlib.util.find_spec(f"django.contrib.{name}")
        places += [(name, Path(folder) / "migrations") for folder in (spec.submodule_search_locations or [] if spec else [])]
    wanted = {(app, file.stem) for app, folder in places for file in folder.glob("[0-9]*.py")}
    try:
        applied = set(connection.execute("select app, name from django_migrations").fetchall())
        return wanted <= applied and connection.execute("select 1 from people_person limit 1").fetchone() is not None
    except psycopg.Error:
        return False  # it has no schema yet


class Supervisor:
    """Starts everything, keeps it up, stops it together."""

    def __init__(self, data: Path, places: int, demo: bool, adopt: bool = False) -> None:
        self.data, self.status = data, 0
        self.adopt = ["--adopt"] if adopt else []
        self.stop = threading.Event()
        self.cluster: Cluster | None = None
        self.parts = [
            _Part("web", _own("web", *self.adopt)),
            _Part("worker", _own("worker", "--places", str(places))),
            _Part("scheduler", _own("scheduler")),
        ]
        if demo:
            self.parts.append(_Part("demo", _own("demo")))

    def _take_data_directory(self) -> None:
        """One service a data directory. Raises ServerFailed; the lock goes with this process."""
        self.lock = open(self.data / "service.lock", "w")  # noqa: SIM115  # held for the life of the process
        try:
            fcntl.flock(self.lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise ServerFailed(
                f"another service runs on the data directory '{self.data}'.", "Stop it first, or choose another: LADLE_DATA=…"
            ) from None

    def _bring_up_database(self) -> None:
        if not os.environ.get("LADLE_DATABASE_URL"):
            self.cluster = Cluster(self.data, "ledger")
            self.cluster.start()
            self.cluster.make_database("ladle")
            os.environ["LADLE_DATABASE_URL"] = self.cluster.url("ladle")
        with psycopg.connect(os.environ["LADLE_DATABASE_URL"], autocommit=True) as connection:
            connection.execute("select pg_advisory_lock(%s)", [MIGRATE_LOCK])
            if not _up_to_date(connection) and subprocess.run(_own("migrate", *self.adopt), check=False).returncode:
                raise ServerFailed("the service database could not be brought up to date.", "What stands above says why.")

    def _wait_until_served(self, url: str) -> bool:
        while not self.stop.is_set():
            self._keep_up()
            try:
                with urllib.request.urlopen(f"{url}/healthz", timeout=2) as answer:  # noqa: S310  # our own address
                    return bool(json.load(answer)["status"] == "well")
            except OSError:  # a web that has just begun gives the others time to do so too
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

    def _keep_up(self) -> None:
        self._keep_database_up()
        now = time.monotonic()
        for part in self.parts:
            if part.process is None or part.process.poll() is None:
                continue
            if part.process.returncode == STRANGER:  # it has said why; another try would say the same
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
        self._take_data_directory()
        try:
            self._bring_up_database()
            web, *others = self.parts
            web.start()  # the page first: whoever waits for it should not wait for the rest as well
            if self._wait_until_served(url):
                print(f"ready: {url}", flush=True)
            web.command = _own("web")  # started anew, it asks again whether all belongs together
            for part in others if not self.stop.is_set() else []:
                part.start()
            (self.data / "service.json").write_text(json.dumps({"url": url, "pid": os.getpid()}))
            while not self.stop.wait(0.5):
                self._keep_up()
        finally:
            self._end()
        return self.status

    def _end(self) -> None:
        for part in self.parts:
            if part.process is not None and part.process.poll() is None:
                part.process.terminate()
        deadline = time.monotonic() + STOP_SECONDS + float(os.environ.get("LADLE_STOP_SECONDS", "20"))
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
