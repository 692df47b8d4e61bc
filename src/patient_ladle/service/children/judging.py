"""Work on texts and files that people send, outside the web's threads: in a few processes kept ready, each with a deadline.

What reads a person's text is made to take time that grows with the text only; should one of them not, it takes the time of
one process for some seconds, and of nobody else. A process that is late, holds much or has died is replaced.

What counts is the memory that a process *holds*. Its address space says nothing: the engine's allocator reserves from half
a gigabyte to several, by chance, and a limit there fails honest work at random.
"""

from __future__ import annotations

import logging
import multiprocessing
import os
import queue
import resource
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from pathlib import Path
from typing import Any, ParamSpec, TypeVar

import duckdb

from patient_ladle.core.errors import BadInput, Busy, LadleError, ServiceFault

log = logging.getLogger("ladle.judging")

P = ParamSpec("P")
R = TypeVar("R")

PROCESSES = 2
"""Of one web process."""
SECONDS = 10.0
"""For one piece of work; what honest texts need is hundredths of a second."""
START_SECONDS = 60.0
"""For a process to load what it needs on a busy machine: no fault of the text's."""
LINE_SECONDS = 15.0
"""In which a process must become free."""
MEMORY_BYTES = 2 << 30
"""That a process may hold beyond what it holds when it is ready: a cell of a gigabyte is not looked at."""
KEPT_BYTES = MEMORY_BYTES // 4
"""That it may still hold when its work is done; with more it is replaced."""
LOOK_SECONDS = 0.02
"""Between two looks at what it holds."""
_READY = ("ready", None)
_PRELOADED = [
    "patient_ladle.core.statements.languages",
    "patient_ladle.core.files.reading",
    f"{__package__}.file_preview",
    f"{__package__}.outlining",
    f"{__package__}.combining",
    f"{__package__}.stepping",
    __name__,
]


def _work(wire: Connection) -> None:
    """The life of one process: a call comes, an answer goes, until the other end is closed."""
    wire.send(_READY)
    while True:
        try:
            function, args, kwargs = wire.recv()
        except (EOFError, OSError):
            return
        try:
            answer: tuple[str, Any] = ("done", function(*args, **kwargs))
        except LadleError as error:
            answer = ("refused", error)
        except (MemoryError, duckdb.OutOfMemoryException):
            answer = ("refused", _too_much())
        except Exception as error:
            log.exception("work on a text failed")
            answer = ("fault", repr(error))
        wire.send(answer)


def _too_much() -> BadInput:
    return BadInput("this is too much to be worked on here.", "Send a smaller one.")


def _held_bytes(process: BaseProcess | None) -> int:
    """Resident memory of its own, without pages of files that others map as well; 0 once it is gone."""
    try:
        _, resident, shared, *_ = map(int, Path(f"/proc/{process.pid if process else 0}/statm").read_text().split())
        return (resident - shared) * resource.getpagesize()
    except (OSError, ValueError):
        return 0


class _Judge:
    """One process; started when it is first needed."""

    def __init__(self) -> None:
        self.process: BaseProcess | None = None
        self.wire: Connection | None = None
        self.ready_bytes = 0

    def ask(self, seconds: float, function: Callable[..., Any], args: Any, kwargs: Any) -> tuple[str, Any]:
        """Its answer. Raises BadInput where it took too long or too much memory, and ServiceFault where it died."""
        if self.process is None or not self.process.is_alive():
            self._start()
        assert self.wire is not None
        try:
            self.wire.send((function, args, kwargs))
            if self._answers_within(seconds):
                answer: tuple[str, Any] = self.wire.recv()
                if self._grown_bytes() > KEPT_BYTES:
                    self.end()
                return answer
        except (EOFError, OSError) as error:
            self.end()
            raise ServiceFault("the service met a fault of its own.", "Its log has the details.") from error
        self.end()
        raise BadInput(f"working on this took longer than {seconds:g} s, and was stopped.", "Send a smaller or simpler one.")

    def _answers_within(self, seconds: float) -> bool:
        """Whether it says something in time. Raises BadInput, and ends it, when it holds too much."""
        assert self.wire is not None
        late = time.monotonic() + seconds
        while (left := late - time.monotonic()) > 0:
            if self.wire.poll(min(left, LOOK_SECONDS)):
                return True
            if self._grown_bytes() > MEMORY_BYTES:
                self.end()
                raise _too_much()
        return False

    def _grown_bytes(self) -> int:
        return _held_bytes(self.process) - self.ready_bytes

    def _start(self) -> None:
        self.end()
        context = multiprocessing.get_context("forkserver")
        self.wire, theirs = context.Pipe()
        self.process = context.Process(target=_work, args=(theirs,), daemon=True)
        self.process.start()
        theirs.close()
        if not self.wire.poll(START_SECONDS) or self.wire.recv() != _READY:
            self.end()
            raise ServiceFault("the service met a fault of its own.", "Its log has the details.")
        self.ready_bytes = _held_bytes(self.process)

    def end(self) -> None:
        """At once."""
        if self.process is not None:
            self.process.kill()
            self.process.join()
        if self.wire is not None:
            with suppress(OSError):
                self.wire.close()
        self.process = self.wire = None


_idle: queue.LifoQueue[_Judge] = queue.LifoQueue()
_set_up = threading.Lock()
_owner: list[int] = []


def _set_up_once() -> None:
    """In each process that asks: what was made before a fork belongs to another."""
    with _set_up:
        if _owner != [os.getpid()]:
            _owner[:] = [os.getpid()]
            multiprocessing.get_context("forkserver").set_forkserver_preload(_PRELOADED)
            while not _idle.empty():
                _idle.get_nowait()
            for _ in range(PROCESSES):
                _idle.put(_Judge())


def judged(function: Callable[P, R], *args: P.args, **kwargs: P.kwargs) -> R:
    """``function(…)``, carried out in another process. Raises what it raises of ours; Busy, BadInput where it took too long."""
    return judged_within(SECONDS, function, *args, **kwargs)


def judged_within(seconds: float, function: Callable[P, R], *args: P.args, **kwargs: P.kwargs) -> R:
    """The same with other patience, for what waits for a store and not for a text."""
    _set_up_once()
    try:
        judge = _idle.get(timeout=LINE_SECONDS)
    except queue.Empty:
        raise Busy("all that could look at this are busy.", "Try again in a moment.") from None
    try:
        kind, answer = judge.ask(seconds, function, args, kwargs)
    finally:
        _idle.put(judge)
    if kind == "refused":
        raise answer
    if kind == "fault":
        raise ServiceFault("the service met a fault of its own.", "Its log has the details.")
    result: R = answer
    return result
