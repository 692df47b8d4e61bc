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
    for kind, a_from, a_to, b_from, b_to in SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        if kind == "equal":
            made += [Line("same", a[n], n + 1, b_from + n - a_from + 1) for n in range(a_from, a_to)]
        else:
            made += [Line("removed", a[n], n + 1, None) for n in range(a_from, a_to)]
            made += [Line("added", b[n], None, n + 1) for n in range(b_from, b_to)]
    return made


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
