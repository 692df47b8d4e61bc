"""The contract of a result store: where attempts write, and from where their files are read at any later time."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any, BinaryIO

from patient_ladle.adapters.deliveries.folder import Delivery, deliver, mark_of
from patient_ladle.core.errors import NotFound
from patient_ladle.core.ports import NO_MOUNTS, DeliveryPlan, ResultFolder


class StoredResult(ResultFolder, ABC):
    """One attempt's place in a store. See ResultFolder; a member gives what is not about delivery."""

    def __init__(self, run: str, attempt: int) -> None:
        self.run, self.attempt = run, attempt
        self.delivery = Delivery(mark_of(run, attempt), self.open)

    def deliver_anew(self, number: int) -> None:
        """What is prepared from now on is of a later try, and has temporary names of its own."""
        self.delivery = Delivery(mark_of(self.run, self.attempt, number), self.open)

    def discard(self) -> None:
        self.drop_delivery()
        self.remove()

    def drop_delivery(self) -> None:
        self.delivery.drop()

    @abstractmethod
    def remove(self) -> None:
        """What this attempt wrote into the store."""

    def prepare_delivery(
        self,
        folders: Sequence[str],
        names: Sequence[tuple[str, str]],
        manner: Mapping[str, Any],
        descriptor: Callable[[Mapping[str, str]], Any],
        mounts: Mapping[str, str] = NO_MOUNTS,
    ) -> DeliveryPlan:
        return self.delivery.prepare(folders, names, manner, descriptor, mounts)

    def deliver(self, plan: DeliveryPlan) -> None:
        deliver(plan)


class Store(ABC):
    """One member of the family."""

    @abstractmethod
    def result(self, run: str, attempt: int) -> StoredResult:
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
