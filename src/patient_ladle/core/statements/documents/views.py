"""Views of one collection, written as commands, binding their values as any extract does."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from typing import Any

from ...errors import unknown_name
from ...values.parameters import Parameter
from ..diagnostics import Table
from ..views import Filter, TableViews, View, in_words, parameter_of

_TESTS = {
    "is": "{}", "is_not": '{{"$nin": [{}, null]}}', "less": '{{"$lt": {}}}', "at_most": '{{"$lte": {}}}',
    "more": '{{"$gt": {}}}', "at_least": '{{"$gte": {}}}', "contains": '{{"$regex": {}, "$options": "i"}}', "is_null": "null",
    "is_not_null": '{{"$ne": null}}',
}  # fmt: skip
"""As in SQL: what has no value passes no comparison."""
_NEEDS_NONE = ("is_null", "is_not_null")
_PARAMETER_TYPES = {"integer": "integer", "decimal": "decimal", "float": "decimal", "boolean": "boolean", "zoned": "timestamp"}
_FORMS = {"day": "%Y-%m-%d", "month": "%Y-%m", "year": "%Y"}


class CollectionViews(TableViews):
    """See TableViews."""

    def __init__(self, table: Table) -> None:
        self.columns = {column["name"]: column for column in table["columns"]}
        self.name = json.dumps(table["name"], ensure_ascii=False)

    def _column(self, name: str) -> str:
        if name not in self.columns:
            raise unknown_name("field", name, self.columns)
        return json.dumps(name, ensure_ascii=False)

    def _filter(self, filters: Sequence[Filter]) -> tuple[str, list[Parameter], dict[str, str], tuple[str, ...]]:
        active = in_words(filters)
        tests, parameters, values = [], [], {}
        for number, each in enumerate(filters, 1):
            field, name = self._column(each.column), f"f{number}"
            if each.test not in _NEEDS_NONE:
                parameters.append(parameter_of(name, each, _PARAMETER_TYPES, self.columns[each.column]["kind"]))
                values[name] = re.escape(each.value) if each.test == "contains" else each.value
            tests.append(f"{{{field}: {_TESTS[each.test].format(f':{name}')}}}")
        text = "{}" if not tests else tests[0] if len(tests) == 1 else f'{{"$and": [{", ".join(tests)}]}}'
        return text, parameters, values, active

    def rows(self, filters: Sequence[Filter], sort: str = "", descending: bool = False) -> View:
        found, parameters, values, active = self._filter(filters)
        order = f',\n "sort": {{{self._column(sort)}: {-1 if descending else 1}}}' if sort else ""
        return View(f'{{"find": {self.name},\n "filter": {found}{order}}}', tuple(parameters), values, active)

    def count(self, filters: Sequence[Filter]) -> View:
        found, parameters, values, active = self._filter(filters)
        return View(f'{{"count": {self.name},\n "query": {found}}}', tuple(parameters), values, active)

    def counts(self, column: str, filters: Sequence[Filter], period: str = "") -> View:
        found, parameters, values, active = self._filter(filters)
        self._column(column)
        of: Any = f"${column}"
        order: dict[str, int] = {"row_count": -1, "_id": 1}
        if period:
            if period not in _FORMS:
                raise unknown_name("period of a document store", period, _FORMS)
            of, order = {"$dateToString": {"date": of, "format": _FORMS[period]}}, {"_id": 1}
        stages = [
            f'{{"$match": {found}}}',
            *(
                json.dumps(stage, ensure_ascii=False)
                for stage in (
                    {"$group": {"_id": of, "row_count": {"$sum": 1}}},
                    {"$sort": order},
                    {"$project": {"_id": 0, period or "value": "$_id", "row_count": 1}},
                )
            ),
        ]
        return View(
            f'{{"aggregate": {self.name},\n "pipeline": [' + ",\n              ".join(stages) + "]}",
            tuple(parameters),
            values,
            active,
        )
