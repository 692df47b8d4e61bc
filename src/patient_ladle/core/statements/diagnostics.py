"""A diagnostic on a statement: what is said, where it stands, what could be done; the same from every query language."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from ..errors import LadleError, nearest
from ..values.parameters import Parameter
from .parts import place

Table = Mapping[str, Any]
"""One of a catalogue, as ``catalogue`` makes it."""


@dataclass(frozen=True, slots=True)
class Diagnostic:
    """One diagnostic. ``severity``: error (it cannot run), warning, or note. Line and column from 1, in code points."""

    severity: str
    code: str
    message: str
    hint: str = ""
    line: int = 1
    column: int = 1
    length: int = 1

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        return asdict(self)


@dataclass(frozen=True, slots=True)
class OtherCatalogue:
    """The stored catalogue of another source of the same environment."""

    source: str
    catalogue: Sequence[Table]


def diagnostic_at(  # noqa: PLR0913 - what a diagnostic shows, one by one
    text: str, severity: str, code: str, message: str, hint: str, start: int, length: int
) -> Diagnostic:
    """A diagnostic on what stands at a position of the text."""
    line, column = place(text, start)
    return Diagnostic(severity, code, message, hint, line, column, max(length, 1))


def of_refusal(error: LadleError) -> Diagnostic:
    """A refusal that knows its place; what a diagnostic shows anyway is left out of its words."""
    line, column = int(error.facts.get("line", 1)), int(error.facts.get("column", 1))
    hint = "" if error.hint == "Correct the statement and save it again." else error.hint
    message = error.message.removeprefix("the database rejected the statement: ")
    message = message.replace(f" (line {line}, column {column})", "").replace(f" at line {line}, column {column}", "")
    return Diagnostic("error", error.code, message, hint, line, column)


def of_undeclared(text: str, name: str, known: Mapping[str, Any], start: int, length: int) -> Diagnostic:
    """A parameter that stands in the text and is not declared."""
    close = nearest(name, known)
    hint = f"Did you mean ':{close}'?" if close else f"Declare '{name}'."
    if f"{name}_from" in known:
        hint = f"It is a period: use ':{name}_from' and ':{name}_to'."
    return diagnostic_at(text, "error", "parameter_undeclared", f"':{name}' is not declared.", hint, start, length)


def of_unused(declared: Sequence[Parameter], used: set[str]) -> list[Diagnostic]:
    """Parameters that are declared and stand nowhere."""
    found = []
    for parameter in declared:
        if not used & {part.name for part in parameter.parts()}:
            message = f"the parameter ':{parameter.name}' is declared and not used."
            found.append(Diagnostic("warning", "parameter_unused", message, "Use it, or remove its declaration."))
    return found
