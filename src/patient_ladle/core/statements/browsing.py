"""Statements behind the browser's views: the first rows, how many, how many by a column or by a period.

They are ordinary statements with ordinary parameters, so each is one press away from being an extract.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from patient_ladle.words import spaced

from ..errors import BadInput, unknown_name
from ..values.parameters import SOME_DAY, Parameter
from .dialects import Dialect

TESTS = {
    "is": "{column} = {parameter}",
    "is_not": "{column} <> {parameter}",
    "less": "{column} < {parameter}",
    "at_most": "{column} <= {parameter}",
    "more": "{column} > {parameter}",
    "at_least": "{column} >= {parameter}",
    "contains": "",
    "is_null": "{column} is null",
    "is_not_null": "{column} is not null",
}
PERIODS = ("day", "month", "year")
MAX_FILTERS = 12
_PARAMETER_TYPES = {
    "integer": "integer", "decimal": "decimal", "float": "decimal", "boolean": "boolean", "date": "date",
    "timestamp": "timestamp", "zoned": "timestamp",
}  # fmt: skip


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


class Browser:
    """Writes views of one table in one dialect. Raises UnknownName for a column that is not there."""

    def __init__(self, dialect: Dialect, table: Mapping[str, Any]) -> None:
        self.dialect = dialect
        self.columns = {column["name"]: column for column in table["columns"]}
        parts = [table["schema"], table["name"]] if table["schema"] else [table["name"]]
        self.source = ".".join(dialect.quoted(part) for part in parts)

    def _column(self, name: str) -> str:
        if name not in self.columns:
            raise unknown_name("column", name, self.columns)
        return self.dialect.quoted(name)

    def _where(self, filters: Sequence[Filter]) -> tuple[str, list[Parameter], dict[str, str]]:
        if len(filters) > MAX_FILTERS:
            raise BadInput(f"there are {len(filters)} filters; at most {MAX_FILTERS} are taken.", "Write a statement instead.")
        tests, parameters, values = [], [], {}
        for number, each in enumerate(filters, 1):
            column, name = self._column(each.column), f"f{number}"
            form = self.dialect.contains_test if each.test == "contains" else TESTS[each.test]
            tests.append(form.format(column=column, parameter=f":{name}"))
            if "{parameter}" in form:
                kind = "text" if each.test == "contains" else _PARAMETER_TYPES.get(self.columns[each.column]["kind"], "text")
                parameter = Parameter(name, kind, note=f"{each.column} {spaced(each.test)}")
                parameter.read(each.value, SOME_DAY)
                parameters.append(parameter)
                values[name] = each.value
        text = "\nwhere " + "\n  and ".join(tests) if tests else ""
        return text, parameters, values

    def _view(self, head: str, filters: Sequence[Filter], tail: str = "") -> View:
        where, parameters, values = self._where(filters)
        active = tuple(f"{each.column} {spaced(each.test)} {each.value}".strip() for each in filters)
        return View(f"{head}\nfrom {self.source}{where}{tail}", tuple(parameters), values, active)

    def rows(self, filters: Sequence[Filter], sort: str = "", descending: bool = False) -> View:
        """All columns, by name, in the table's order or sorted."""
        chosen = ", ".join(self._column(name) for name in self.columns)
        order = f"\norder by {self._column(sort)}{' desc' if descending else ''}" if sort else ""
        return self._view(f"select {chosen}", filters, order)

    def count(self, filters: Sequence[Filter]) -> View:
        """How many rows there are, exactly."""
        return self._view("select count(*) as row_count", filters)

    def counts(self, column: str, filters: Sequence[Filter], period: str = "") -> View:
        """How many rows by the values of a column (the most frequent first), or by its day, month or year."""
        name = self._column(column)
        if not period:
            return self._view(
                f"select {name} as value, count(*) as row_count", filters, f"\ngroup by {name}\norder by row_count desc, value"
            )
        if period not in PERIODS:
            raise unknown_name("period", period, PERIODS)
        form = self.dialect.periods[period].format(column=name)
        return self._view(f"select {form} as {period}, count(*) as row_count", filters, f"\ngroup by {form}\norder by {period}")
