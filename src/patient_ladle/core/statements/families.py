"""Tables whose names differ by a date alone, one a month or a day: shown as one group, with a count for each."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

LEAST = 3
"""Members of a family: two of a kind are quicker read one by one."""
_DATE = re.compile(r"(?<!\d)((?:19|20)\d\d)[-_.]?(0[1-9]|1[0-2])(?:[-_.]?(0[1-9]|[12]\d|3[01]))?(?!\d)")


@dataclass(frozen=True, slots=True)
class Member:
    """A table of a family, its period (``2026-11``, ``2026-11-24``), and about how many rows it has."""

    name: str
    period: str
    rows_about: int | None


@dataclass(frozen=True, slots=True)
class Family:
    """``name``: that of its tables with a star for the date."""

    name: str
    members: tuple[Member, ...]

    @property
    def rows_about(self) -> int | None:
        """Of all together; None where one is not known."""
        counts = [member.rows_about for member in self.members]
        return None if None in counts else sum(count for count in counts if count is not None)

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        members = [{key: getattr(member, key) for key in member.__slots__} for member in self.members]
        return {"name": self.name, "rows_about": self.rows_about, "members": members}


def families_of(tables: Iterable[Mapping[str, Any]]) -> list[Family]:
    """Of tables with ``name`` and ``rows_about``, by name, their members by period. The last date in a name counts."""
    found: dict[tuple[str, int], list[Member]] = {}
    for table in tables:
        name = str(table["name"])
        dates = list(_DATE.finditer(name))
        if dates:
            last = dates[-1]
            period = "-".join(filter(None, last.groups()))
            key = (f"{name[: last.start()]}*{name[last.end() :]}", len(period))
            found.setdefault(key, []).append(Member(name, period, table["rows_about"]))
    made = [
        Family(name, tuple(sorted(members, key=lambda member: (member.period, member.name))))
        for (name, _), members in found.items()
        if len(members) >= LEAST
    ]
    return sorted(made, key=lambda family: family.name)
