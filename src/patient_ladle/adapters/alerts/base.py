"""The contract of a channel: settings that it checks, and one message sent or NotSent."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

from patient_ladle.adapters.reach import NotKnown, NotReachable, Reached, reached
from patient_ladle.core.errors import BadInput, LadleError, unknown_name
from patient_ladle.core.runs.alerts import Message

SECONDS = 10.0
"""Longest wait for the other side at each step."""


class NotSent(LadleError):
    """An alert did not arrive; ``transient`` says whether a later try can help."""

    code = "not_sent"
    transient = True


class NotTaken(NotSent):
    """The other side does not take it, now or later."""

    code = "not_taken"
    transient = False


@dataclass(frozen=True, slots=True)
class Setting:
    """One setting of a channel."""

    note: str
    required: bool = False
    default: str = ""


class Channel(ABC):
    """One member of the family."""

    name: ClassVar[str]
    note: ClassVar[str]
    settings: ClassVar[Mapping[str, Setting]]
    key_note: ClassVar[str]

    def checked(self, given: Mapping[str, Any]) -> dict[str, str]:
        """All settings as texts. Raises BadInput, UnknownName."""
        for name in given:
            if name not in self.settings:
                raise unknown_name(f"setting of the channel {self.name}", name, self.settings)
        made = {name: str(given.get(name) or setting.default) for name, setting in self.settings.items()}
        for name, setting in self.settings.items():
            if setting.required and not made[name]:
                raise BadInput(f"the channel {self.name} needs '{name}'.", f"Give {setting.note}.")
        self.check(made)
        return made

    def check(self, settings: Mapping[str, str]) -> None:  # noqa: B027  # most settings do not meet each other
        """Refuse settings that cannot work. Raises BadInput."""

    @abstractmethod
    def way(self, settings: Mapping[str, str], reach: Reach) -> Reached:
        """Where its server is, judged. Raises NotSent where that is not known, NotTaken where nothing may be sent there."""

    @abstractmethod
    def send(self, message: Message, settings: Mapping[str, str], secret: str, reach: Reach) -> str:
        """Hand the message over; returns what the other side said. Raises NotSent."""


def checked_way(host: str, port: int, reach: Reach) -> Reached:
    """The judged addresses of a host that alerts go to. Raises NotSent, NotTaken."""
    try:
        return reached(host, port, SECONDS, reach.private)
    except NotKnown as error:
        raise NotSent(f"the host '{host}' is not known.", "Correct the address of the channel.") from error
    except NotReachable as error:
        raise NotTaken(
            f"'{host}' is at {error.address}, which {error.why}.",
            "Set LADLE_WEBHOOK_PRIVATE=yes where alerts may go to addresses inside the house.",
        ) from error


@dataclass(frozen=True, slots=True)
class Reach:
    """Where alerts may be sent to, as the service's host allows: ``hosts`` empty means any public one."""

    hosts: frozenset[str] = frozenset()
    private: bool = False
    """Whether addresses inside the house are allowed."""
