"""Steps compiled to one statement over a result that lies in a table of the combining engine.

Each step is a common table expression over the one before. A hidden column carries the place of each row, so that rows
which are equal in what they are ordered by keep their order, and the same rows give the same result every time.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from . import declared as d
from .at import ROW, At, Field, Judge, Test, is_own, quoted
from .lookups import InputTable, Lookup
from .makers import MAKERS

_CHANGE = (d.Filter, d.Group, d.First, d.DropDuplicates, d.RowsToColumns, d.ColumnsToRows, d.LookUp)
"""Steps after which there may be another number of rows."""
_KEEP_ORDER = (d.Filter, d.Compute, d.Split, d.Replace, d.ChangeKind, d.Rename, d.Reorder, d.Drop)
"""Steps that take rows as they come and let them go so: no sorting is needed afterwards."""


@dataclass(slots=True)
class Stage:
    """What is known of one step. ``measured``: names of the numbers that are counted of it: rows, unmatched."""

    number: int
    step: Any
    table: str
    fields: list[Field] = field(default_factory=list)
    measured: dict[str, str] = field(default_factory=dict)

    @property
    def title(self) -> str:
        """What people call it."""
        return d.title_of(self.step)


class Chain:
    """Steps, compiled one after the other. ``start``: the result's columns; ``base``: what selects them with ``ROW``."""

    def __init__(
        self,
        judge_: Judge,
        start: Sequence[Field],
        base: str,
        lookups: Mapping[str, Lookup | InputTable],
        tables: Mapping[str, str],
    ) -> None:
        """``lookups``: what steps look up in (``tables_by_key``); ``tables``: what selects the rows of each."""
        self.judge, self.lookups, self.tables = judge_, lookups, tables
        self.parts: list[tuple[str, str]] = [("s0", base)]
        self.fields = list(start)
        self.open = False
        """More columns will be there than are known now: values found in the rows become names."""
        self.stages: list[Stage] = []
        self.tests: list[Test] = []
        self.keeps_order = True

    def extend(self, steps: Sequence[tuple[int, Any]]) -> Chain:
        """With these, each with its place among all. Raises BadInput; its fact ``where`` says at which field."""
        for number, step in steps:
            self._add(number, step)
        return self

    def _add(self, number: int, step: Any) -> None:
        at = At(self, number, step)
        with at.named():
            body = MAKERS[type(step)](step, at)
            table = f"s{number + 1}"
            self.parts.append((table, body))
            found = self.judge.described(f"{self.head()} select * from {table}")
        self.fields = [each for each in found if not is_own(each.name)]
        measured = dict(at.measured)
        if isinstance(step, _CHANGE):
            measured = {"rows": f"select count(*) from {table}"} | measured
        self.stages.append(Stage(number, step, table, self.fields, measured))
        self.keeps_order = self.keeps_order and isinstance(step, _KEEP_ORDER)

    def head(self) -> str:
        """All parts, before the statement that asks them."""
        return "with " + ",\n".join(f"{name} as (\n{body}\n)" for name, body in self.parts)

    @property
    def last(self) -> str:
        """The name of the last part."""
        return self.parts[-1][0]

    def query(self) -> str:
        """The statement of the result."""
        shown = ", ".join(quoted(each.name) for each in self.fields)
        ordered = "" if self.keeps_order else f"\norder by {ROW}"
        return f"{self.head()}\nselect {shown}\nfrom {self.last}{ordered}"

    def counting(self) -> str:
        """A statement of one row: of the result and of each stage all that is measured, in that order."""
        asked = [f"(select count(*) from {table})" for table in ("s0", self.last)]
        asked += [f"({query})" for stage in self.stages for query in stage.measured.values()]
        return f"{self.head()}\nselect {', '.join(asked)}"

    def testing(self, test: Test) -> str:
        """The statement of a test."""
        return f"{self.head()}\n{test.query}"
