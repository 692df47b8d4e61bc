"""A second process that records due times along with the scheduler while more are due than one batch."""

from __future__ import annotations

import logging
import multiprocessing
import signal
from collections.abc import Callable
from contextlib import suppress
from multiprocessing.connection import Connection

log = logging.getLogger("ladle.scheduler")

PATIENCE_SECONDS = 30.0
"""When the first one finds nothing due any more, the second has one batch left at most."""


class SecondScheduler:
    """Asleep until it is asked to record all that is due; it ends with the process that made it, for then its pipe does.

    Make it before this process has threads or connections: it is forked off, so that it shares the memory and is there at
    once. When something happens to it, its batch is undone by the database, and the first one does without it.
    """

    def __init__(self, record_all: Callable[[], int]) -> None:
        self.pipe, theirs = multiprocessing.Pipe()
        self.asked = False
        self.process = multiprocessing.get_context("fork").Process(target=self._help, args=(theirs, record_all), daemon=True)
        self.process.start()
        theirs.close()

    def _help(self, asked: Connection, record_all: Callable[[], int]) -> None:
        self.pipe.close()  # of the first one only, so that its end is noticed
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        while True:
            try:
                asked.recv()
                asked.send(record_all())
            except (EOFError, BrokenPipeError):
                return

    def ask(self) -> None:
        """Let it begin, unless it has."""
        if not self.asked and self.process.is_alive():
            with suppress(OSError):  # it was killed at this moment
                self.pipe.send(None)
                self.asked = True

    def answer(self) -> int:
        """Wait until it is done, if it was asked; how many due times it recorded."""
        if not self.asked:
            return 0
        self.asked = False
        with suppress(EOFError, OSError):
            if self.pipe.poll(PATIENCE_SECONDS):
                done: int = self.pipe.recv()
                return done
            self.process.kill()
        log.warning("the second scheduler process has ended; the first one records alone until it is started again")
        return 0
