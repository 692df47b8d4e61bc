"""Views of one table, the same from every query language: the first rows, how many, how many by a column or by a period.

They are ordinary statements with ordinary parameters, so each is one press away from being an extract.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from patient_ladle.words import spaced

from ..errors import BadInput, unknown_name
from ..values.parameters import SOME_DAY, Parameter

TESTS = ("is", "is_not", "less", "at_most", "more", "at_least", "contains", "is_null", "is_not_null")
PERIODS = ("day", "week", "month", "quarter", "year")
MAX_FILTERS = 12


@dataclass(frozen=True, slots=True)
class Filter:
    """``column`` passes ``test`` against ``value``."""

    column: str
    test: str
    value: str = ""

    @classmethod
    def from_dict(cls, data: Mapping[str, Any]) -> Filter:
        """Raises BadInput."""
        known = cls.__slots__
        for key in data:
            if key not in known:
                raise unknown_name("field of a filter", str(key), known)
        made = cls(str(data.get("column", "")), str(data.get("test", "is")), str(data.get("value") or ""))
        if made.test not in TESTS:
            raise unknown_name("test", made.test, TESTS)
        return made


@dataclass(frozen=True, slots=True)
class View:
    """A statement with its parameters and their values, and its filters in words."""

    statement: str
    parameters: tuple[Parameter, ...]
    values: dict[str, str]
    active: tuple[str, ...]

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        return {
            "statement": self.statement,
            "parameters": [parameter.to_dict() for parameter in self.parameters],
            "values": self.values,
            "active_filters": list(self.active),
        }


def in_words(filters: Sequence[Filter]) -> tuple[str, ...]:
    """The filters as a person reads them. Raises BadInput for more than a view takes."""
    if len(filters) > MAX_FILTERS:
        raise BadInput(f"there are {len(filters)} filters; at most {MAX_FILTERS} are taken.", "Write a statement instead.")
    return tuple(f"{each.column} {spaced(each.test)} {each.value}".strip() for each in filters)


def parameter_of(name: str, each: Filter, types: Mapping[str, str], kind: str) -> Parameter:
    """What a filter's value is bound to, by the kind of its column. ``types``: of parameters, by kind; others are texts.

    Raises ValueWrong for a value that is none of that type.
    """
    made = Parameter(
        name, "text" if each.test == "contains" else types.get(kind, "text"), note=f"{each.column} {spaced(each.test)}"
    )
    made.read(each.value, SOME_DAY)
    return made


class TableViews(ABC):
    """Writes views of one table. Raises UnknownName for a column that is not there, BadInput for a value that cannot be."""

    @abstractmethod
    def rows(self, filters: Sequence[Filter], sort: str = "", descending: bool = False) -> View:
        """All columns, by name, in the table's order or sorted."""

    @abstractmethod
    def count(self, filters: Sequence[Filter]) -> View:
        """How many rows there are, exactly."""

    @abstractmethod
    def counts(self, column: str, filters: Sequence[Filter], period: str = "") -> View:
        """How many rows by the values of a column (the most frequent first), or by its day, month or year."""
