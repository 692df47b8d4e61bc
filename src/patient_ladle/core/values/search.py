"""What somebody searches for: words, and terms that say where, as in ``tag:payroll meter "by zone"``. Pure."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass

_TOKEN = re.compile(r'(?:(?P<field>[A-Za-z]+):)?(?:"(?P<quoted>[^"]*)"?|(?P<bare>\S+))')
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
