"""What somebody searches for: words, and terms that say where, as in ``tag:payroll meter "by zone"``. Pure."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

_TOKEN = re.compile(r'(?:(?P<field>[A-Za-z]+):)?(?:"(?P<quoted>[^"]*)"?|(?P<bare>\S+))')
_PARTS = re.compile(r"[^a-z0-9]+")
MOST_WORDS = 20
"""Words and terms that count; those beyond are not looked at."""


@dataclass(frozen=True, slots=True)
class Search:
    """All of it is to be met: every word anywhere, and of each field every value given."""

    words: tuple[str, ...]
    terms: Mapping[str, tuple[str, ...]]


def read_search(text: str, fields: Collection[str]) -> Search:
    """Words separated by white space, quoted where they hold some; ``field:`` before one, of ``fields`` alone, says where.

    Another word with a colon is a word: ``a::int`` is found where it stands. Nothing raises.
    """
    words: list[str] = []
    terms: dict[str, list[str]] = {}
    for found in list(_TOKEN.finditer(text))[:MOST_WORDS]:
        field = (found["field"] or "").lower()
        value = found["quoted"] if found["bare"] is None else found["bare"]
        if field in fields:
            if value:
                terms.setdefault(field, []).append(value)
        elif word := (found[0] if found["quoted"] is None or found["field"] else value):
            words.append(word)
    return Search(tuple(words), {field: tuple(values) for field, values in terms.items()})


def fit(name: str, words: Sequence[str], beside: str = "") -> int | None:
    """How well a name fits what was typed: 0 is it, 1 begins so, 2 has a word that begins so, 3 holds it; 4 only together with
    what stands beside it. None where a word is met nowhere."""
    low, all_of_it = name.lower(), f"{name} {beside}".lower()
    wanted = [word.lower() for word in words]
    if not wanted or not all(word in all_of_it for word in wanted):
        return None
    said = " ".join(wanted)
    if low == said:
        return 0
    if low.startswith(said):
        return 1
    parts = _PARTS.split(low)
    if all(any(part.startswith(word) for part in parts) for word in wanted):
        return 2
    return 3 if all(word in low for word in wanted) else 4
