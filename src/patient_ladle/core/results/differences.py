"""What differs between two texts, line by line, and between two sets of settings."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass
from difflib import SequenceMatcher
from typing import Any


@dataclass(frozen=True, slots=True)
class Line:
    """One line: ``same``, ``removed`` or ``added``; its number before and after, where it stands there."""

    kind: str
    text: str
    before: int | None
    after: int | None

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        return asdict(self)


def lines_between(before: str, after: str) -> list[Line]:
    """Every line of both texts once, in order; removed lines stand before the added ones that take their place."""
    a, b = before.splitlines(), after.splitlines()
    made: list[Line] = []
    for kind, a_from, a_to, b_from, b_to in _steps(a, b):
        if kind == "equal":
            made += [Line("same", a[n], n + 1, b_from + n - a_from + 1) for n in range(a_from, a_to)]
        else:
            made += [Line("removed", a[n], n + 1, None) for n in range(a_from, a_to)]
            made += [Line("added", b[n], None, n + 1) for n in range(b_from, b_to)]
    return made


MOST_PAIRS = 1_000_000
"""Lines before times lines after, of what lies between the first and the last difference: beyond that the time to find what
they have in common is more than anybody waits for, and so is the time to read it."""


def _steps(a: list[str], b: list[str]) -> list[tuple[str, int, int, int, int]]:
    """As ``SequenceMatcher.get_opcodes``; what both begin and end with is left out of its work."""
    head = next((n for n, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
    rest = min(len(a), len(b)) - head
    tail = next((n for n in range(rest) if a[-1 - n] != b[-1 - n]), rest)
    middle_a, middle_b = a[head : len(a) - tail], b[head : len(b) - tail]
    if len(middle_a) * len(middle_b) > MOST_PAIRS:
        found = [("replace", 0, len(middle_a), 0, len(middle_b))]
    else:
        found = list(SequenceMatcher(None, middle_a, middle_b, autojunk=False).get_opcodes())
    steps = [("equal", 0, head, 0, head)] if head else []
    steps += [(kind, head + i, head + j, head + m, head + n) for kind, i, j, m, n in found]
    return steps + ([("equal", len(a) - tail, len(a), len(b) - tail, len(b))] if tail else [])


def settings_between(before: Mapping[str, Any], after: Mapping[str, Any]) -> Iterator[dict[str, Any]]:
    """``field``, ``before`` and ``after`` of each setting that differs; lists of named things member by member."""
    for key in dict.fromkeys([*before, *after]):
        old, new = before.get(key), after.get(key)
        if old == new:
            continue
        if _named(old) and _named(new):
            olds, news = {item["name"]: item for item in old or []}, {item["name"]: item for item in new or []}
            for name in dict.fromkeys([*olds, *news]):
                yield from _member(f"{key}: {name}", olds.get(name), news.get(name))
        else:
            yield {"field": key, "before": old, "after": new}


def _member(where: str, old: dict[str, Any] | None, new: dict[str, Any] | None) -> Iterator[dict[str, Any]]:
    if old is None or new is None:
        yield {"field": where, "before": old, "after": new}
        return
    for field in dict.fromkeys([*old, *new]):
        if old.get(field) != new.get(field):
            yield {"field": f"{where}, {field}", "before": old.get(field), "after": new.get(field)}


def _named(value: Any) -> bool:
    return isinstance(value, list) and all(isinstance(item, dict) and "name" in item for item in value)
