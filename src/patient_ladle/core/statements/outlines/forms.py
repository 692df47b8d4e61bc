"""What an outline must know of one SQL: the words in which dialects differ. Facts; each query language has its own."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, timezone
from decimal import Decimal

from ...values.parameters import Scalar, as_text


@dataclass(frozen=True, slots=True, kw_only=True)
class Forms:
    """``{e}`` is an expression, ``{v}`` a value, ``{by}`` what rows are ordered by, ``{type}`` the column's own type."""

    parser: str
    """What the parser of expressions calls the dialect."""
    parameter_mark: str = ":"
    """What stands before the name of a parameter there."""
    aggregates: Mapping[str, str] = field(default_factory=dict)
    """Beyond those of every SQL: ``median``, ``first``, ``last``."""
    position: str = "strpos({e}, {v})"
    """Where a text stands in another, from 1."""
    matches: str = ""
    """Empty: it has no regular expressions."""
    in_list: str = "{e} = any({v})"
    not_in_list: str = "{e} <> all({v})"
    day_after: str = "{v} + 1"
    date: str = "date {v}"
    timestamp: str = "timestamp {v}"
    zoned: str = "timestamptz {v}"
    zone: str = "+00"
    """How a moment says that it is of UTC."""
    as_text: str = ""
    """Makes a text of what is none, where comparing needs it; empty: it does not."""
    nulls: Mapping[str, str] = field(default_factory=lambda: {each: f"{{e}}{{way}} nulls {each}" for each in ("first", "last")})
    """``{way}``: `` desc``, or nothing."""
    nulls_are: tuple[str, str] = ("last", "first")
    """Where rows without a value go by themselves, ascending and descending."""
    joins: tuple[str, ...] = ("inner", "left", "right", "full")
    numbers_for_booleans: bool = False
    """True and false are kept in columns of integers."""
    backslash_escapes: bool = False

    def constant(self, value: Scalar) -> str:
        """A value as a careful author writes it."""
        match value:
            case bool():
                return "true" if value else "false"
            case int() | Decimal():
                return str(as_text(value))
            case datetime() if value.tzinfo:
                plain = value.astimezone(timezone.utc).replace(tzinfo=None).isoformat(sep=" ")
                return self.zoned.format(v=self.string(plain + self.zone))
            case datetime():
                return self.timestamp.format(v=self.string(value.isoformat(sep=" ")))
            case date():
                return self.date.format(v=self.string(value.isoformat()))
        return self.string(value)

    def string(self, text: str) -> str:
        """A text between quotes."""
        doubled = text.replace("'", "''")
        return "'" + (doubled.replace("\\", "\\\\") if self.backslash_escapes else doubled) + "'"


EVERYWHERE: Mapping[str, str] = {
    "count": "count({e})", "count_distinct": "count(distinct {e})", "sum": "sum({e})", "mean": "avg({e})", "min": "min({e})",
    "max": "max({e})",
}  # fmt: skip
"""Aggregates of every SQL."""
