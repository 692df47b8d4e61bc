"""The contract of a result store: where attempts write, and from where their files are read at any later time."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable
from datetime import datetime
from typing import BinaryIO

from patient_ladle.core.errors import NotFound
from patient_ladle.core.ports import ResultFolder


class Store(ABC):
    """One member of the family."""

    @abstractmethod
    def result(self, run: str, attempt: int) -> ResultFolder:
        """The place of one attempt."""

    @abstractmethod
    def mark(self, make: bool = True) -> str:
        """What tells this store from any other: written once by whoever comes first, or empty where there is none and none
        is to be made. Raises StoreUnwritable."""

    @abstractmethod
    def runs(self) -> Iterable[int]:
        """Numbers of the runs that have something there. Raises StoreUnwritable."""

    @abstractmethod
    def free_bytes(self) -> int | None:
        """Space left; None where that means nothing. Raises StoreUnwritable."""

    @abstractmethod
    def discard(self, run: str, attempt: int, surely: bool = False) -> None:
        """Remove all that an attempt wrote, however it ended. ``surely``: raises StoreUnwritable where something is left."""

    def sweep(self, before: datetime) -> int:
        """Let go of what was begun before then and never completed, outside of any attempt; returns how many."""
        return 0

    @abstractmethod
    def open(self, run: str, attempt: int, name: str) -> BinaryIO:
        """A stored file, to read and seek in. Raises NotFound, also for a name that leads out of its place."""


def checked_name(name: str) -> str:
    """Raises NotFound for a name that is none of a stored file."""
    if "/" in name or name in ("", ".", ".."):
        raise NotFound(f"there is no file '{name}'.", "Take a name from the run's list of files.")
    return name


def not_stored(name: str) -> NotFound:
    """The error for a file that the store does not have."""
    return NotFound(f"the file '{name}' is not in the result store.", "Start the run again.")
