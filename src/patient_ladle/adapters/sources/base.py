"""The contract of a source engine: what an address of it holds, how a session is opened, how a source is checked."""

from __future__ import annotations

import time
from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any, ClassVar

from patient_ladle.core.dialects import Dialect
from patient_ladle.core.errors import BadInput, LadleError, SourceNotReadable, SourceUnreachable, unknown_name
from patient_ladle.core.ports import SourceSession

CONNECT_SECONDS = 10
"""A server that has not answered by then is reported as unreachable."""


class ProbingSession(SourceSession):
    """A source session that can also say what it found there."""

    def probe(self) -> str:
        """Read something harmless; returns the server's version in words."""
        raise NotImplementedError


@dataclass(frozen=True, slots=True)
class CheckStep:
    """One step of a check: did it pass, how long it took, what was found or what to do next."""

    step: str
    passed: bool
    seconds: float
    detail: str
    hint: str = ""

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        return asdict(self)


class Engine(ABC):
    """One member of the family. ``fields`` maps each address field to (type, required, words for a person)."""

    name: ClassVar[str]
    title: ClassVar[str]
    dialect: ClassVar[Dialect]
    fields: ClassVar[Mapping[str, tuple[type, bool, str]]]
    takes_secret: ClassVar[bool] = True

    @abstractmethod
    def open(self, address: Mapping[str, Any], secret: str) -> ProbingSession:
        """A read-only session. Raises SourceUnreachable, SourceSignInRefused, SourceDatabaseMissing."""

    def checked_address(self, address: Mapping[str, Any]) -> dict[str, Any]:
        """The address with every field known, typed and present. Raises BadInput."""
        made: dict[str, Any] = {}
        for key, value in address.items():
            if key not in self.fields:
                raise unknown_name(f"field of a {self.title} address", key, self.fields)
            wanted = self.fields[key][0]
            try:
                made[key] = wanted(value)
            except (TypeError, ValueError):
                raise BadInput(f"'{value}' is not a {key} ({self.fields[key][2]}).", "Correct the address.") from None
        for key, (_, required, words) in self.fields.items():
            if required and made.get(key) in (None, ""):
                raise BadInput(f"a {self.title} address needs '{key}' ({words}).", f"Give it: {key}=…")
        return made

    def check(self, address: Mapping[str, Any], secret: str) -> list[CheckStep]:
        """Reached, signed in, may read; stops at the first step that fails."""
        steps: list[CheckStep] = []
        began = time.monotonic()
        try:
            session = self.open(address, secret)
        except LadleError as error:
            took = time.monotonic() - began
            reached = not isinstance(error, SourceUnreachable)
            if reached:
                steps.append(CheckStep("reached", True, took, "the server answers"))
            failed = "signed in" if reached else "reached"
            return [*steps, CheckStep(failed, False, took, error.message, error.hint)]
        try:
            took = time.monotonic() - began
            who = ", ".join(f"{key} {value}" for key, value in session.identity().items())
            steps.append(CheckStep("reached", True, took, "the server answers"))
            steps.append(CheckStep("signed in", True, took, who))
            began = time.monotonic()
            found = session.probe()
            steps.append(CheckStep("may read", True, time.monotonic() - began, found))
        except LadleError as error:
            hint = error.hint if isinstance(error, SourceNotReadable) else error.hint or "Look at the service's log."
            steps.append(CheckStep("may read", False, time.monotonic() - began, error.message, hint))
        finally:
            session.close()
        return steps
