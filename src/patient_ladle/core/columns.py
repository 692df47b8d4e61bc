"""Columns and batches: how rows travel from a source to the formats.

Every cell travels as canonical text, the same from every source: integers and exact decimals as digits without an
exponent, floats in their shortest round-trip form, ``true``/``false``, ISO 8601 dates, zone-less timestamps
``2026-11-24 06:05:00``, zoned ones RFC 3339 in UTC ``2026-11-24T06:05:00Z``, binary as base64 (RFC 4648), JSON as JSON.
The column's kind says how a format may write that text; an absent value is null.
"""

from __future__ import annotations

import base64
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, time, timezone
from decimal import Decimal
from typing import Any

import pyarrow as pa

KINDS = ("text", "integer", "decimal", "float", "boolean", "date", "time", "timestamp", "zoned", "binary", "json", "any")
"""``any``: the source types each value, not the column (SQLite); the batch then marks which cells are numbers."""

NUMERIC = ("integer", "decimal", "float")
BATCH_ROWS = 5_000
"""Rows in a batch: large enough that per-batch work vanishes, small enough that memory stays flat."""


@dataclass(frozen=True, slots=True)
class Column:
    """A result column: its name in the file, its kind, what the source calls its type, and what a reader must know of it."""

    name: str
    kind: str = "text"
    source_type: str = ""
    note: str = ""


@dataclass(frozen=True, slots=True)
class Batch:
    """Some rows, column by column.

    ``cells[i]`` is a string array with nulls; ``numbers[i]`` is a boolean array that marks the numeric cells of a
    column of kind ``any``, and None for every other kind. All arrays have ``rows`` members.
    """

    cells: tuple[pa.Array, ...]
    numbers: tuple[pa.Array | None, ...]
    rows: int

    @classmethod
    def of_texts(cls, columns: Sequence[Sequence[str | None]], rows: int) -> Batch:
        """From canonical texts, column by column."""
        return cls(tuple(pa.array(c, pa.string()) for c in columns), (None,) * len(columns), rows)

    @classmethod
    def of_values(cls, rows: Sequence[Sequence[Any]], width: int) -> Batch:
        """From Python values, row by row, for sources that type each value."""
        columns: Iterable[Sequence[Any]] = zip(*rows, strict=True) if rows else [()] * width
        cells, numbers = [], []
        for values in columns:
            cells.append(pa.array([canonical(value) for value in values], pa.string()))
            numbers.append(pa.array([isinstance(v, (int, float)) and not isinstance(v, bool) for v in values], pa.bool_()))
        return cls(tuple(cells), tuple(numbers), len(rows))

    @property
    def bytes(self) -> int:
        """Bytes of the texts held, for progress and limits."""
        return sum(int(array.nbytes) for array in self.cells)


def canonical(value: Any) -> str | None:
    """The canonical text of one Python value; None stays None.

    Raises TypeError for a type that has no canonical text.
    """
    match value:
        case None | str():
            return value
        case bool():
            return "true" if value else "false"
        case int():
            return str(value)
        case float():
            return repr(value)
        case Decimal():
            return format(value, "f")
        case bytes() | bytearray() | memoryview():
            return base64.b64encode(value).decode()
        case datetime() if value.tzinfo:
            return _trim(value.astimezone(timezone.utc).replace(tzinfo=None).isoformat()) + "Z"
        case datetime():
            return _trim(value.isoformat(sep=" "))
        case date():
            return value.isoformat()
        case time():
            return _trim(value.isoformat())
    raise TypeError(f"no canonical text for {type(value).__name__}")


def _trim(text: str) -> str:
    return text.rstrip("0").rstrip(".") if "." in text else text


def unique_names(columns: Sequence[Column]) -> tuple[list[Column], list[str]]:
    """Columns with every name unique, and the names that had to be changed (``id`` → ``id_2``).

    Names are keys in JSON and headers that readers look up, so two of the same would lose one.
    """
    taken: set[str] = set()
    made, changed = [], []
    for number, column in enumerate(columns, 1):
        base = column.name or f"column_{number}"
        name, count = base, 1
        while name.lower() in taken:
            count += 1
            name = f"{base}_{count}"
        if name != column.name:
            changed.append(f"{column.name or '(no name)'} → {name}")
        taken.add(name.lower())
        made.append(replace(column, name=name))
    return made, changed
