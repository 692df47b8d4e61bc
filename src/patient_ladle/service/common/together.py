"""Things that are changed by one call: all of them, or none."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from patient_ladle.core.errors import BadInput

MOST = 1_000
"""Things of one call."""


def names_of(noun: str, given: Sequence[Mapping[str, Any]], now_named: Callable[[str], str]) -> list[str]:
    """Their names as they are now, each once. ``noun`` takes an s. Raises BadInput, and what ``now_named`` raises."""
    if len(given) > MOST:
        raise BadInput(f"{len(given):,} {noun}s were given; {MOST:,} at most go together.", "Send them in parts.")
    names = [now_named(each["name"]) for each in given]
    twice = sorted({name for name in names if names.count(name) > 1})
    if twice:
        raise BadInput(f"'{twice[0]}' was given twice.", f"Name each {noun} once.")
    return names
