"""A lookup: a small table of the repository, as steps and statements meet it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ..results.columns import Column

TYPES = {
    "text": "VARCHAR", "integer": "BIGINT", "decimal": "DECIMAL(38, {places})", "float": "DOUBLE", "boolean": "BOOLEAN",
    "date": "DATE", "timestamp": "TIMESTAMP",
}  # fmt: skip
"""Kinds of its columns, and what the combining engine keeps them in."""


@dataclass(frozen=True, slots=True)
class Lookup:
    """One revision of it. ``rows``: canonical texts (core.results.columns), in the order of the columns."""

    name: str
    revision: int
    columns: tuple[Column, ...]
    key: tuple[str, ...]
    rows: Sequence[Sequence[str | None]]

    @classmethod
    def from_dict(cls, data: Mapping[str, Any]) -> Lookup:
        """From plain JSON, as a job carries it."""
        columns = tuple(Column(each["name"], each["kind"]) for each in data["columns"])
        return cls(data["name"], data["revision"], columns, tuple(data["key"]), data["rows"])

    def to_dict(self) -> dict[str, Any]:
        """The inverse."""
        return {
            "name": self.name, "revision": self.revision, "key": list(self.key), "rows": [list(row) for row in self.rows],
            "columns": [{"name": column.name, "kind": column.kind} for column in self.columns],
        }  # fmt: skip

    def keys(self) -> list[list[str | None]]:
        """The key of each row."""
        places = self.places(self.key)
        return [[row[place] for place in places] for row in self.rows]

    def places(self, names: Sequence[str]) -> list[int]:
        """Where the columns of these names stand."""
        lower = [column.name.lower() for column in self.columns]
        return [lower.index(name.lower()) for name in names]

    def doubled(self, names: Sequence[str]) -> tuple[int, tuple[str | None, ...]] | None:
        """How many rows repeat the values that an earlier one has in these columns, and the first such values."""
        places = self.places(names)
        seen: set[tuple[str | None, ...]] = set()
        count, first = 0, None
        for row in self.rows:
            values = tuple(row[place] for place in places)
            if None not in values and values in seen:
                count, first = count + 1, first or values
            seen.add(values)
        return None if first is None else (count, first)

    def types(self) -> list[str]:
        """What the combining engine keeps each column in."""
        return [
            TYPES[column.kind].format(places=_places(row[number] for row in self.rows) if column.kind == "decimal" else 0)
            for number, column in enumerate(self.columns)
        ]


def _places(texts: Any) -> int:
    return min(18, max((len(text.partition(".")[2]) for text in texts if text), default=0))
