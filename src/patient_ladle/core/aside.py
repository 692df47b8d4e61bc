"""One piece of work in a thread of its own, which whoever asked waits for, or not."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import Future
from typing import TypeVar

T = TypeVar("T")


def aside(work: Callable[[], T]) -> Future[T]:
    """What ``work`` returns or raises. Its thread holds up nobody's end: not that of whoever gave it up, nor the process's."""
    future: Future[T] = Future()

    def carry_out() -> None:
        try:
            made = work()
        except BaseException as error:  # noqa: BLE001  # raised where it is asked for
            future.set_exception(error)
        else:
            future.set_result(made)

    threading.Thread(target=carry_out, daemon=True).start()
    return future
