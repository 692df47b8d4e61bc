"""Views of a table written in SQL: from the dialect's few words, binding their values as any extract does."""

from __future__ import annotations

from collections.abc import Sequence

from ..errors import unknown_name
from ..values.parameters import Parameter
from .diagnostics import Table
from .dialects import Dialect
from .views import PERIODS, Filter, TableViews, View, in_words, parameter_of

_TESTS = {
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
_PARAMETER_TYPES = {
    "integer": "integer", "decimal": "decimal", "float": "decimal", "boolean": "boolean", "date": "date",
    "timestamp": "timestamp", "zoned": "timestamp",
}  # fmt: skip


class SqlViews(TableViews):
    """See TableViews, in one dialect."""

    def __init__(self, dialect: Dialect, table: Table) -> None:
        self.dialect = dialect
        self.columns = {column["name"]: column for column in table["columns"]}
        parts = [table["schema"], table["name"]] if table["schema"] else [table["name"]]
        self.source = ".".join(dialect.quoted(part) for part in parts)

    def _column(self, name: str) -> str:
        if name not in self.columns:
            raise unknown_name("column", name, self.columns)
        return self.dialect.quoted(name)

    def _where(self, filters: Sequence[Filter]) -> tuple[str, list[Parameter], dict[str, str]]:
        tests, parameters, values = [], [], {}
        for number, each in enumerate(filters, 1):
            column, name = self._column(each.column), f"f{number}"
            form = self.dialect.contains_test if each.test == "contains" else _TESTS[each.test]
            if "{parameter}" not in form:
                tests.append(form.format(column=column))
                continue
            made = parameter_of(name, each, _PARAMETER_TYPES, self.columns[each.column]["kind"])
            parameters.append(made)
            values[name] = each.value
            bound = "{parameter}"
            if each.test != "contains":
                of = self.columns[each.column]
                column, bound = self.dialect.compared(column, str(of["type"]), of["kind"], made.type != "text")
            tests.append(form.format(column=column, parameter=bound.replace("{parameter}", f":{name}")))
        text = "\nwhere " + "\n  and ".join(tests) if tests else ""
        return text, parameters, values

    def _view(self, head: str, filters: Sequence[Filter], tail: str = "") -> View:
        active = in_words(filters)
        where, parameters, values = self._where(filters)
        return View(f"{head}\nfrom {self.source}{where}{tail}", tuple(parameters), values, active)

    def rows(self, filters: Sequence[Filter], sort: str = "", descending: bool = False) -> View:
        chosen = ", ".join(self._column(name) for name in self.columns)
        order = f"\norder by {self._column(sort)}{' desc' if descending else ''}" if sort else ""
        return self._view(f"select {chosen}", filters, order)

    def count(self, filters: Sequence[Filter]) -> View:
        return self._view("select count(*) as row_count", filters)

    def counts(self, column: str, filters: Sequence[Filter], period: str = "") -> View:
        name = self._column(column)
        if not period:
            return self._view(
                f"select {name} as value, count(*) as row_count", filters, f"\ngroup by {name}\norder by row_count desc, value"
            )
        if period not in PERIODS:
            raise unknown_name("period", period, PERIODS)
        form = self.dialect.periods[period].format(column=name)
        return self._view(f"select {form} as {period}, count(*) as row_count", filters, f"\ngroup by {form}\norder by {period}")
