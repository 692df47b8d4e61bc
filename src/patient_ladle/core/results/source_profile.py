"""A column's profile asked of its source: two or three statements, each of which counts there and sends a handful of rows."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal, InvalidOperation
from typing import Any

from ..errors import StatementFailed, StatementWrong
from ..statements.catalogue import names_of
from ..statements.languages import QueryLanguage
from ..statements.outlines.base import Compiled
from ..statements.outlines.looks import of_look
from ..statements.outlines.outline import Condition, Outline, Place, Shown, Sorted, Term
from ..statements.views import Filter
from .columns import NUMERIC
from .profile import (
    MOMENTS,
    MOST_COMMON,
    NEITHER,
    NO_BOUNDS,
    NO_CALENDAR,
    Profile,
    bounds_for,
    in_short,
    period_for,
    with_numbers,
    with_periods,
)

Rows = Sequence[Sequence[Any]]


@dataclass
class Asked:
    """A profile, and the statements that told it."""

    profile: Profile
    statements: list[str] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Subject:
    """A column of a table of the catalogue, of the rows that pass the filters."""

    language: QueryLanguage
    table: Mapping[str, Any]
    column: str
    filters: Sequence[Filter] = ()

    @property
    def kind(self) -> str:
        """Of the column."""
        return next(str(each["kind"]) for each in self.table["columns"] if each["name"] == self.column)

    def checked(self) -> Subject:
        """Itself. Raises BadInput and its family: no such column or filter, a language that knows no outlines."""
        look, _ = of_look(self.table, self.filters, columns=[self.column])
        self.language.outlines().compiled(look, [self.table], ())
        return self


class _Profiling:
    def __init__(self, subject: Subject, ask: Callable[[Compiled], Rows]) -> None:
        self.subject, self.ask = subject, ask
        look, _ = of_look(subject.table, subject.filters, columns=[subject.column])
        self.where = look.where
        self.outlines = subject.language.outlines()
        self.statements: list[str] = []

    def rows(self, title: str, show: Sequence[Shown], present: bool = False, **more: Any) -> Rows:
        """Of one statement, kept under its title. Raises what the source raises."""
        where = self.where
        if present:
            tests = where.all_ or () if where else ()
            where = Condition(all_=(*tests, Condition(column=self.subject.column, test="is_not_null")))
        outline = Outline(from_=Place(table=names_of(self.subject.table)), show=tuple(show), where=where, **more)
        compiled = self.outlines.compiled(outline, [self.subject.table], ())
        found = self.ask(compiled)
        self.statements.append(f"{self.outlines.comment}{title}\n{compiled.statement}")
        return found

    def facts(self) -> Profile:
        """Numbers of rows and the least, greatest, mean; fewer where the database has no such thing for the type."""
        column, kind = self.subject.column, self.subject.kind
        wanted = [("rows", Shown(aggregate="count", name="row_count")), ("present", self._told("count", "present"))]
        more = [] if kind in NEITHER else [("distinct", self._told("count_distinct", "different"))]
        has_ends = kind not in (*NEITHER, "boolean")
        ends = [("min", self._told("min", "least")), ("max", self._told("max", "greatest"))] if has_ends else []
        mean = [("mean", self._told("mean", "mean"))] if kind in NUMERIC else []
        notes: list[str] = []
        for tried in ([*wanted, *more, *ends, *mean], [*wanted, *more], wanted):
            try:
                rows = self.rows(f"{column} at a glance", [shown for _, shown in tried])
            except (StatementWrong, StatementFailed) as error:
                if tried is wanted:
                    raise
                notes = [f"not all can be told of this type: {error.message.removesuffix('.')}"]
                continue
            cells = rows[0] if rows else [None] * len(tried)  # a document store groups nothing to no row
            found = dict(zip((name for name, _ in tried), cells, strict=True))
            break
        total, present = int(found["rows"] or 0), int(found["present"] or 0)
        made = Profile(column, kind, total, total - present, notes=tuple(notes))
        if "distinct" in found:
            made = replace(made, distinct=int(found["distinct"] or 0))
        return replace(made, least=found.get("min"), greatest=found.get("max"), mean=_short(found.get("mean")))

    def _told(self, aggregate: str, name: str) -> Shown:
        return Shown(column=self.subject.column, aggregate=aggregate, name=name)  # type: ignore[arg-type]  # one of them

    def commonest(self, made: Profile) -> Profile:
        """The profile with the values that most rows have."""
        column = self.subject.column
        rows = self.rows(
            f"the commonest values of {column}",
            [Shown(column=column, name="value"), Shown(aggregate="count", name="row_count")], present=True, first=MOST_COMMON,
            grouped=(Term(column=column),), sorted=(Sorted(by="row_count", descending=True), Sorted(by="value")),
        )  # fmt: skip
        return replace(made, commonest=tuple((_text(value), int(count)) for value, count in rows))

    def bars(self, made: Profile) -> Profile:
        """The profile with them, where its values have an order that can be drawn."""
        if made.least is None or made.greatest is None:
            return made
        if made.kind in NUMERIC:
            return self._of_numbers(made, Decimal(made.least), Decimal(made.greatest))
        if made.kind in MOMENTS:
            return self._of_periods(made)
        return made

    def _of_numbers(self, made: Profile, least: Decimal, greatest: Decimal) -> Profile:
        if not (least.is_finite() and greatest.is_finite()):
            return replace(made, mean=None, notes=(*made.notes, "not all are numbers: no mean, no bars"))
        bounds = bounds_for(made.kind, least, greatest)
        if bounds is None:
            return replace(made, notes=(*made.notes, NO_BOUNDS))
        said = self.outlines.band_of(self.subject.column, bounds[1:-1])
        rows = self.rows(
            f"how the values of {self.subject.column} spread",
            [Shown(expression=said, name="bar"), Shown(aggregate="count", name="row_count")], present=True,
            grouped=(Term(expression=said),), sorted=(Sorted(by="bar"),),
        )  # fmt: skip
        found = {int(Decimal(str(bar))): int(count) for bar, count in rows}
        return with_numbers(made, bounds, [found.get(number, 0) for number in range(len(bounds) - 1)])

    def _of_periods(self, made: Profile) -> Profile:
        column = self.subject.column
        try:
            period = period_for(str(made.least), str(made.greatest), self.outlines.words.buckets)
        except ValueError:
            return replace(made, notes=(*made.notes, NO_CALENDAR))
        rows = self.rows(
            f"rows by the {period} of {column}",
            [Shown(column=column, bucket=period, name="start"), Shown(aggregate="count", name="row_count")],  # type: ignore[arg-type]  # one of them
            present=True, grouped=(Term(column=column, bucket=period),), sorted=(Sorted(by="start"),),  # type: ignore[arg-type]
        )  # fmt: skip
        return with_periods(made, period, {str(start)[:10]: int(count) for start, count in rows})


def _short(mean: Any) -> str | None:
    if mean is None:
        return None
    try:
        return in_short(Decimal(str(mean)))
    except (InvalidOperation, ValueError):
        return str(mean)


def _text(cell: Any) -> str:
    return str(cell["text"]) if isinstance(cell, Mapping) else str(cell)


def source_profile(subject: Subject, ask: Callable[[Compiled], Rows]) -> Asked:
    """``ask`` runs one statement and gives its rows; it may be asked again after an error of the database.

    Raises what ``ask`` raises.
    """
    work = _Profiling(subject.checked(), ask)
    made = work.facts()
    for more in (work.commonest, work.bars) if made.rows > made.absent and made.kind not in NEITHER else ():
        try:
            made = more(made)
        except (StatementWrong, StatementFailed) as error:
            made = replace(made, notes=(*made.notes, f"not all could be told: {error.message.removesuffix('.')}"))
    return Asked(made, work.statements)
