"""The contract of a kind of target: a place that proven results are delivered to.

A delivery goes in two steps. It is *prepared*: everything is there, and nothing of it shows. Its plan is recorded, and then
it is *committed*: all of it shows, or nothing does. Who finds a recorded plan whose end is unknown commits it once more.
What was prepared and will not be committed is *swept*; what nobody remembers is found by its mark and *cleared*.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path
from typing import BinaryIO, ClassVar

from patient_ladle.core.ports import Delivery, DeliveryPlan

IsOver = Callable[[int, int, int], bool]
"""Whether a try is over, asked by run, attempt and number of the try."""


def mark_of(run: str, attempt: int, number: int = 1) -> str:
    """What tells one try to deliver one attempt from any other: kinds put it into whatever they prepare."""
    return f"{run}-{attempt}-{number}"


class TargetKind(ABC):
    """One member of the family. A target is a text; ``moves`` and ``own`` of its plans mean what the kind makes them mean."""

    name: ClassVar[str]
    prefix: ClassVar[str] = ""
    """What its targets begin with; the kind that has none takes those that no other one takes."""

    @abstractmethod
    def targets(self, wanted: Sequence[str], roots: Sequence[Path]) -> tuple[str, ...]:
        """The targets that a person named, in the form that is recorded. Raises BadInput for what can be no target here.

        ``roots``: folders that this service may deliver into.
        """

    @abstractmethod
    def begin(self, mark: str, opened: Callable[[str], BinaryIO]) -> Delivery:
        """A try under a mark of its own (see ``mark_of``); ``opened`` gives a stored file by its name."""

    @abstractmethod
    def commit(self, plan: DeliveryPlan, resumed: bool = False, done: Collection[str] = ()) -> list[str]:
        """Let all that was prepared be seen, the descriptor last, or nothing of it.

        ``resumed``: an earlier commit was lost on its way, and is rolled forward: what is not prepared any more was committed
        by it. ``done``: places that were filled before and could not be taken back; they are left alone. Returns the places of
        which somebody has taken the file already. Raises StoreUnwritable, DiskFull, NameTaken; ``delivered`` among the facts
        names the places that could not be taken back.
        """

    def remarks(self, plan: DeliveryPlan) -> list[str]:
        """What a person should know of the targets that was found on the way."""
        return []

    @abstractmethod
    def sweep(self, plan: DeliveryPlan) -> None:
        """Remove what was prepared and will not be committed. Raises nothing."""

    @abstractmethod
    def clear(self, target: str, is_over: IsOver) -> bool:
        """Remove what tries that are over have left at a target unseen; False where the target is away."""

    @abstractmethod
    def place(self, target: str, name: str) -> str:
        """Where a file of that name would be seen; it begins with ``prefix``, as the target does."""

    @abstractmethod
    def stands(self, place: str) -> bool:
        """Whether something is seen there now."""

    @abstractmethod
    def open_places(self, plan: DeliveryPlan) -> list[str]:
        """Places that a commit of the plan would fill: those that an earlier one has filled are left out."""

    @abstractmethod
    def check(self, target: str, known: str = "") -> str:
        """Why nothing can be delivered there now, with what to do; empty where nothing speaks against it. Changes nothing."""

    def learned(self, plan: DeliveryPlan) -> Mapping[str, str]:
        """By target, what a committed plan tells that is to be known (``known``) when something goes there again."""
        return {}

    def describe(self, targets: Sequence[str]) -> str:
        """Where a delivery goes, in words."""
        return " and ".join(targets)
