"""Outlines in SQL: one way for all dialects, from the few words in which they differ."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal

from ...values.parameters import Parameter
from ..dialects import Dialect
from .base import Compiled, Counting, Outlines, Remark, Table, Words
from .checking import OPERATORS, remarks_on
from .compiling import Writer
from .forms import EVERYWHERE, Forms
from .outline import AGGREGATES, BUCKETS, Outline
from .reading import outline_of
from .steps import counting
from .tables import Tables


class SqlOutlines(Outlines):
    """See Outlines."""

    def __init__(self, dialect: Dialect, forms: Forms) -> None:
        self.dialect, self.forms = dialect, forms
        tests = {kind: [test for test in tests if test != "matches" or forms.matches] for kind, tests in OPERATORS.items()}
        own = {**EVERYWHERE, **forms.aggregates}
        self.words = Words(tests, [each for each in AGGREGATES if each in own], BUCKETS, forms.joins)

    def remarks(self, outline: Outline, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> list[Remark]:
        tables = Tables(outline, catalogue)
        return remarks_on(outline, tables, Writer(outline, tables, self.dialect, self.forms, declared))

    def compiled(self, outline: Outline, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> Compiled:
        tables = Tables(outline, catalogue)
        tables.refuse_missing()
        return Writer(outline, tables, self.dialect, self.forms, declared).compiled()

    def counting(self, outline: Outline, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> Counting:
        tables = Tables(outline, catalogue)
        tables.refuse_missing()
        return counting(outline, tables, Writer(outline, tables, self.dialect, self.forms, declared))

    def band_of(self, column: str, bounds: Sequence[Decimal]) -> str:
        name = self.dialect.identifier(column)
        cases = " ".join(f"when {name} < {self.forms.constant(bound)} then {number}" for number, bound in enumerate(bounds))
        return f"case {cases} else {len(bounds)} end" if bounds else f"case when {name} is null then 1 else 0 end"

    def read(self, text: str, catalogue: Sequence[Table] | None, declared: Sequence[Parameter]) -> Outline:
        return outline_of(text, self.dialect, self.forms, catalogue, declared)
