"""Children kept warm, for runs and for queries: a process that has loaded everything begins its next run in milliseconds."""

from __future__ import annotations

import threading
from typing import Any

from .launch import Child, sweep

JOBS = 200
"""Runs of one child: whatever a driver leaks does not grow for ever."""
GROWN_BYTES = 400 << 20
"""A child that holds so much after a run is replaced; a fresh one holds about 130 MB."""


class ChildPool:
    """So many idle children at most; one that met any fault is never taken back."""

    def __init__(self, most: int) -> None:
        self.most = most
        self.idle: list[Child] = []
        self.lock = threading.Lock()
        self.closed = False

    def warm(self, least: int | None = None) -> None:
        """So many idle ones at least; None: as many as may be idle. What others before left is swept."""
        sweep()
        with self.lock:
            wanted = min(self.most if least is None else least, self.most)
            if not self.closed:
                self.idle += [Child() for _ in range(wanted - len(self.idle))]

    def take(self, job: dict[str, Any]) -> Child:
        """A child that has begun the job."""
        with self.lock:
            while self.idle:
                child = self.idle.pop()
                if child.process.poll() is None:
                    break
                child.wait()
            else:
                child = Child()
        child.say(job | {"stay": True})
        child.jobs += 1
        return child

    def give_back(self, child: Child) -> None:
        """After a job that went well to its end."""
        with self.lock:
            if not self.closed and child.jobs < JOBS and child.resident_bytes() < GROWN_BYTES and len(self.idle) < self.most:
                self.idle.append(child)
                return
        child.kill()
        child.wait()

    def close(self) -> None:
        """End all that are idle."""
        with self.lock:
            self.closed, ending, self.idle = True, self.idle, []
        for child in ending:
            child.kill()
            child.wait()
