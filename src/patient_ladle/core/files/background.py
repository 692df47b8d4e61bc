"""Work done behind the caller's back: one thread takes what is given, in order, while the caller makes the next piece; or one
makes the next piece while the caller has one in hand."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable, Generator, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing
from typing import Any, TypeVar

T = TypeVar("T")
_OVER = object()

DEPTH = 4
"""Pieces that may wait: enough to keep both sides busy, little enough to keep memory flat."""


class BackgroundWriter:
    """Hands every piece to ``take`` in a thread of its own. What ``take`` raises is raised at the next call."""

    def __init__(self, take: Callable[[Any], Any], depth: int = DEPTH) -> None:
        self.take = take
        self.failure: BaseException | None = None
        self.waiting: queue.Queue[Any] = queue.Queue(depth)
        self.thread: threading.Thread | None = None

    def _work(self) -> None:
        while (piece := self.waiting.get()) is not None:
            if self.failure is None:  # after a failure the rest is only drained, so that nobody waits for ever
                try:
                    self.take(piece)
                except BaseException as error:  # noqa: BLE001  # raised in the caller's thread
                    self.failure = error

    def submit(self, piece: Any) -> None:
        """Queue one piece; waits while too many are waiting. Raises what an earlier piece met."""
        if self.failure is not None:
            raise self.failure
        if self.thread is None:
            self.thread = threading.Thread(target=self._work, daemon=True)
            self.thread.start()
        self.waiting.put(piece)

    def close(self) -> None:
        """Wait until everything is taken. Raises what any piece met; safe to call twice."""
        self.abort()
        if self.failure is not None:
            raise self.failure

    def abort(self) -> None:
        """End without asking how it went."""
        if self.thread is not None:
            self.waiting.put(None)
            self.thread.join()
            self.thread = None


def ahead(pieces: Generator[T, None, None]) -> Iterator[T]:
    """The same pieces, each made in a thread while the caller has the one before. Raises what making one meets."""
    with closing(pieces), ThreadPoolExecutor(1) as pool:
        waiting: Future[Any] = pool.submit(next, pieces, _OVER)
        while (piece := waiting.result()) is not _OVER:
            waiting = pool.submit(next, pieces, _OVER)
            yield piece
