"""What is to be said of an outline before it runs: names, kinds, groups, and joins that make more rows than one thinks."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, Protocol

from ...errors import BadInput, nearest
from ..catalogue import names_of
from .base import Compiled, Remark
from .compiling import name_of
from .expressions import Expression
from .outline import Condition, Given, Join, Outline, Term, path_of, refused
from .tables import UNKNOWN, Tables, repeats
from .values import Parameters

_NUMBERS = ("integer", "decimal", "float")
_MOMENTS = ("date", "timestamp", "zoned")
_TEXTS = ("text", UNKNOWN)
_NO_VALUE = ("is_null", "is_not_null")
_MANY = ("between", "in_list", "not_in_list", "in_period")
_ORDER = ("less", "at_most", "more", "at_least", "between")
_LISTS = ("is", "is_not", "in_list", "not_in_list")
_SEARCH = ("contains", "begins_with", "matches")
OPERATORS: dict[str, tuple[str, ...]] = {
    **dict.fromkeys(_NUMBERS, (*_LISTS, *_ORDER, *_NO_VALUE)),
    **dict.fromkeys(_MOMENTS, (*_LISTS, *_ORDER, *_NO_VALUE, "in_period")),
    "text": (*_LISTS, *_ORDER, *_NO_VALUE, *_SEARCH),
    "boolean": (*_LISTS, *_NO_VALUE),
    "time": (*_LISTS, *_ORDER, *_NO_VALUE),
    "binary": _NO_VALUE,
    "json": _NO_VALUE,
    UNKNOWN: (*_LISTS, *_ORDER, *_NO_VALUE, *_SEARCH, "in_period", "holds"),
}
"""The tests that a kind of value takes."""
_GROUPS = {
    **dict.fromkeys(_NUMBERS, "number"), **dict.fromkeys(_MOMENTS, "moment"), "text": "text", "boolean": "boolean",
    "time": "time", "binary": "binary", "json": "json",
}  # fmt: skip
_ADDS_UP = ("sum", "mean", "median", "count")


class Writing(Protocol):
    """What writes an outline in a language, as far as checking it asks."""

    joins: Sequence[str]
    has_patterns: bool
    typed_columns: bool
    parameters: Parameters

    def read(self, term: Term, where: str) -> Expression:
        """Its expression. Raises BadInput."""

    def compiled(self) -> Compiled:
        """The statement. Raises BadInput."""


def remarks_on(outline: Outline, tables: Tables, writer: Writing) -> list[Remark]:
    """All of them, errors first."""
    made = _Checks(outline, tables, writer)
    made.everything()
    order = ("error", "warning", "note")
    return sorted(made.found, key=lambda remark: order.index(remark.severity))


class _Checks:
    def __init__(self, outline: Outline, tables: Tables, writer: Writing) -> None:
        self.outline, self.tables, self.writer = outline, tables, writer
        self.found: list[Remark] = []

    @contextmanager
    def at(self, where: str) -> Iterator[None]:
        """What is refused within is an error at that part."""
        try:
            yield
        except BadInput as error:
            self.found.append(Remark.of(error, where))

    def say(self, severity: str, code: str, where: str, message: str, hint: str) -> None:
        self.found.append(Remark(severity, code, message, hint, where))

    def everything(self) -> None:
        if self.tables.catalogue is None:
            self.say("note", "catalogue_missing", "", "The source's tables have not been looked at: no name is checked.",
                     "Look at the source first.")  # fmt: skip
        for where, fault in self.tables.faults:
            with self.at(where):
                raise fault
        if not self.tables.faults:
            self._joins()
            self._shown()
            for where, term in self.outline.terms():
                with self.at(where):
                    self._term(term, where)
            for where, condition in self.outline.tests():
                with self.at(where):
                    self._test(condition, where)
            self._groups()
            self._sorting()
        if not any(each.severity == "error" for each in self.found):
            with self.at(""):
                self.writer.compiled()
        if not any(each.severity == "error" for each in self.found):
            self._rows_that_repeat()
            self._rows_left_out()

    def _joins(self) -> None:
        before = [self.outline.from_.alias]
        for number, join in enumerate(self.outline.with_):
            where = f"with[{number}]"
            if join.join not in self.writer.joins:
                self.say(
                    "error",
                    "bad_input",
                    where,
                    f"this database has no {join.join} join.",
                    "Join the other way round, or in two statements.",
                )
            for at, pair in enumerate(join.on):
                with self.at(f"{where}.on[{at}]"):
                    self._pair(pair.left, pair.right, join, before, f"{where}.on[{at}]")
            if not join.on:
                sizes = [table["rows_about"] if table else None for table in self.tables.tables.values()][: number + 2]
                about = f", about {_product(sizes):,}" if all(size is not None for size in sizes) else ""
                self.say("warning", "join_without_condition", where,
                         f"Nothing says which rows of {join.alias} belong to which: each meets each{about} rows.",
                         "Say which columns must be the same.")  # fmt: skip
            before.append(join.alias)

    def _pair(self, left: str, right: str, join: Join, before: list[str], where: str) -> None:
        first, second = self.tables.column(left, where), self.tables.column(right, where)
        if second.alias != join.alias:
            raise refused(where, f"'{right}' is not of '{join.alias}'", f"On the right stands a column of {join.alias}.")
        if first.alias not in before:
            what = "is the joined table itself" if first.alias == join.alias else "is joined later"
            raise refused(where, f"'{left}': '{first.alias}' {what}", "On the left stands a column of a table named before.")
        if self.writer.typed_columns and not _comparable(first.kind, second.kind):
            raise refused(where, f"'{left}' is {first.kind} and '{right}' is {second.kind}", "Join columns of one kind.")

    def _shown(self) -> None:
        taken: dict[str, int] = {}
        for number, shown in enumerate(self.outline.show):
            where = f"show[{number}]"
            with self.at(where):
                name = name_of(shown, self.tables, where)
                if name.lower() in taken:
                    other = path_of(f"show[{taken[name.lower()]}]")
                    raise refused(
                        where, f"'{name}' is the name of {other} too", f'Give one of them another: "name": "{name}_2".'
                    )
                taken[name.lower()] = number

    def _term(self, term: Term, where: str) -> None:
        kind = self.tables.column(term.column, where).kind if term.column else UNKNOWN
        if term.expression:
            read = self.writer.read(term, where)
            for column in read.columns:
                self.tables.column(column, where)
            known = {part.name for each in self.writer.parameters.declared for part in each.parts()} | {
                "data_date",
                "due_time",
                "now",
            }
            for name in read.parameters:
                if name not in known:
                    close = nearest(name, known)
                    raise refused(
                        where,
                        f"the parameter ':{name}' is not declared",
                        f"Did you mean ':{close}'?" if close else "Declare it.",
                    )
            if read.aggregates and (term.aggregate or where.startswith(("where", "grouped"))):
                raise refused(where, "the expression brings rows together already", "Aggregates stand in show and in having.")
        if term.by:
            self.tables.column(term.by, where)
        if term.bucket and kind not in (*_MOMENTS, UNKNOWN, *(() if self.writer.typed_columns else ("text",))):
            raise refused(
                where, f"'{term.column}' is {kind}, of which there is no {term.bucket}", "Buckets are for dates and times."
            )
        if term.aggregate in ("sum", "mean", "median") and (term.bucket or kind not in (*_NUMBERS, UNKNOWN)):
            raise refused(
                where,
                f"'{term.column}' is {kind}, of which there is no {term.aggregate}",
                "Take a column of numbers, or count.",
            )

    def _test(self, condition: Condition, where: str) -> None:
        _check_values(condition, where)
        kind, test = self.tables.kind(condition, where), condition.test
        takes = OPERATORS.get(kind, OPERATORS[UNKNOWN])
        if not self.writer.typed_columns and kind == "text":
            takes = OPERATORS[UNKNOWN]
        if test not in takes:
            raise refused(
                where, f"'{condition.column}' is {kind}, which is never tested by '{test}'", f"It takes {', '.join(takes)}."
            )
        if test == "matches" and not self.writer.has_patterns:
            raise refused(where, "this database has no regular expressions", "Use contains or begins_with.")
        for value in (condition.value, *condition.values):
            if isinstance(value, Given) and value.column:
                other = self.tables.column(value.column, where).kind
                if self.writer.typed_columns and not _comparable(kind, other):
                    raise refused(
                        where, f"'{condition.column}' is {kind} and '{value.column}' is {other}", "Compare columns of one kind."
                    )

    def _groups(self) -> None:
        outline = self.outline
        sums = any(self._sums(each, "") for each in outline.show) or any(
            self._sums(each, "") for where, each in outline.tests() if where.startswith("having")
        )
        if not (outline.grouped or sums):
            if outline.having is not None:
                self.say(
                    "error",
                    "bad_input",
                    "having",
                    "there are no groups.",
                    "Put the condition into where, or say by what rows are grouped.",
                )
            return
        if not outline.show:
            self.say("error", "bad_input", "show", "rows are grouped, and nothing says what is shown.", "Name columns.")
        keys = {self._key(each) for each in outline.grouped}
        columns = {each.column for each in outline.grouped if not each.bucket}
        named = {self._name(each) for each in columns}
        terms: list[tuple[str, Term]] = [(f"show[{at}]", each) for at, each in enumerate(outline.show)]
        terms += [(where, each) for where, each in outline.tests() if where.startswith("having")]
        for where, term in terms:
            if self._sums(term, where) or self._key(term) in keys:
                continue
            used = self._used(term)
            if term.bucket or not used or not {self._name(each) for each in used} <= named:
                what = term.column or term.expression[:40]
                self.say("error", "bad_input", where, f"'{what}' has many values in a group.",
                         "Group by it too, or say which is taken: max, sum, count and so on.")  # fmt: skip

    def _used(self, term: Term) -> tuple[str, ...]:
        if term.column:
            return (term.column,)
        try:
            return self.writer.read(term, "").columns
        except BadInput:
            return ()

    def _name(self, column: str) -> str:
        try:
            return self.tables.column(column, "").written
        except BadInput:
            return column

    def _key(self, term: Term) -> tuple[str, str, str]:
        return (self._name(term.column) if term.column else "", term.expression.strip(), term.bucket)

    def _sums(self, term: Term, where: str) -> bool:
        if term.aggregate:
            return True
        if not term.expression:
            return False
        try:
            return self.writer.read(term, where).aggregates
        except BadInput:
            return True

    def _sorting(self) -> None:
        outline = self.outline
        names = []
        for number, shown in enumerate(outline.show):
            try:
                names.append(name_of(shown, self.tables, f"show[{number}]"))
            except BadInput:
                continue
        grouped = {self._name(each.column) for each in outline.grouped if not each.bucket}
        sums = bool(outline.grouped) or any(self._sums(each, "") for each in outline.show)
        for number, each in enumerate(outline.sorted):
            where = f"sorted[{number}]"
            if each.by in names:
                continue
            try:
                column = self.tables.column(each.by, where)
            except BadInput as error:
                close = nearest(each.by, names)
                hint = f"Did you mean '{close}'? " if close else ""
                with self.at(where):
                    raise refused(where, f"'{each.by}' is neither shown nor a column", f"{hint}{error.hint}") from None
                continue
            if sums and column.written not in grouped:
                self.say(
                    "error",
                    "bad_input",
                    where,
                    f"'{each.by}' has many values in a group.",
                    "Sort by a shown name, or group by it.",
                )
            elif (
                outline.distinct
                and outline.show
                and column.written not in {self._name(s.column) for s in outline.show if s.column}
            ):
                self.say(
                    "error",
                    "bad_input",
                    where,
                    f"'{each.by}' is not shown, and each row stands once.",
                    "Show it, or sort by what is shown.",
                )

    def _rows_that_repeat(self) -> None:
        found = repeats(self.tables)
        for number, often in found.by.items():
            join = self.outline.with_[number]
            said = " and ".join(names_of(table) if (table := self.tables.tables[alias]) else alias for alias in often)
            self.say("warning", "join_multiplies", f"with[{number}]",
                     f"Each row of {said} can appear several times: what {join.alias} is joined by is a key on neither side.",
                     "Join by a key, or count the rows after each step to see how many there are.")  # fmt: skip
        for where, term in self.outline.terms():
            if term.aggregate in _ADDS_UP and term.column:
                alias = self.tables.column(term.column, where).alias
                if alias in found.often and not (term.aggregate == "count" and found.by):
                    self.say("warning", "sum_of_repeated", where,
                             f"Rows of {alias} appear once for each row that they are joined with, and so count several times.",
                             f"Group {alias} in a statement of its own, or take min, max or count_distinct.")  # fmt: skip

    def _rows_left_out(self) -> None:
        optional = self.tables.optional()
        for where, condition, negated in _tests_with_sign(self.outline):
            if not condition.column or condition.test in _NO_VALUE:
                continue
            column = self.tables.column(condition.column, where)
            if column.alias in optional and not negated and ".any[" not in where:
                self.say("note", "join_made_inner", where,
                         f"Rows without a match in {column.alias} are left out by this condition, though the join keeps them.",
                         "Add *or is null* in a group of any, or join inner.")  # fmt: skip
            elif (
                (condition.test in ("is_not", "not_in_list") or negated)
                and self.tables.nullable(condition, where)
                and column.known
            ):
                self.say("note", "null_left_out", where, f"Rows without a value in {column.name} are left out too.",
                         "Where they should stay, add *is null* in a group of any.")  # fmt: skip


def _tests_with_sign(outline: Outline) -> Iterable[tuple[str, Condition, bool]]:
    """Tests of *where*, and whether they stand within an odd number of *none*."""
    return [(where, each, where.count(".none[") % 2 == 1) for where, each in outline.tests() if where.startswith("where")]


def _check_values(condition: Condition, where: str) -> None:
    """As many values as the test takes, in the right field. Raises BadInput."""
    test, one, many = condition.test, condition.value, condition.values
    for each in (one, *many):
        if isinstance(each, Given) and bool(each.parameter) == bool(each.column):
            raise refused(where, "a given value is a parameter or a column", 'Such as "value": {"parameter": "since"}.')
    takes, right = _TAKES.get(test, ("one value", _one))
    if test == "holds" and (condition.column or condition.bucket or condition.aggregate):
        raise refused(where, "'holds' takes an expression that is a condition", 'Such as "expression": "r.litres > m.most".')
    if not right(one, many):
        example = {"no value": "Leave it out.", "two values": 'Such as "values": [10, 20].'}
        raise refused(where, f"'{test}' takes {takes}", example.get(takes, _EXAMPLES.get(test, 'Such as "value": 10.')))


def _parameter(one: Any) -> bool:
    return isinstance(one, Given) and bool(one.parameter)


def _one(one: Any, many: Sequence[Any]) -> bool:
    return one is not None and not many


def _none(one: Any, many: Sequence[Any]) -> bool:
    return one is None and not many


def _two(one: Any, many: Sequence[Any]) -> bool:
    return one is None and len(many) == 2


def _text(one: Any, many: Sequence[Any]) -> bool:
    return _one(one, many) and not (isinstance(one, Given) and one.column)


_TAKES: dict[str, tuple[str, Callable[[Any, Sequence[Any]], bool]]] = {
    **dict.fromkeys((*_NO_VALUE, "holds"), ("no value", _none)),
    **dict.fromkeys(("in_list", "not_in_list"), (
        "values, or one list parameter", lambda one, many: bool(many) != _parameter(one) and (one is None or _parameter(one)))),
    "between": ("two values", _two),
    "in_period": ("a period", lambda one, many: _two(one, many) or (not many and (isinstance(one, str) or _parameter(one)))),
    **dict.fromkeys(_SEARCH, ("a text or a parameter", _text)),
}  # fmt: skip
_EXAMPLES = {
    "in_period": 'Such as "value": "last month", or a period parameter.',
    **dict.fromkeys(("in_list", "not_in_list"), 'Such as "values": ["North", "South"].'),
    **dict.fromkeys(_SEARCH, 'Such as "value": "valve".'),
}


def _comparable(one: str, other: str) -> bool:
    first, second = _GROUPS.get(one), _GROUPS.get(other)
    return first is None or second is None or first == second


def _product(sizes: Iterable[int | None]) -> int:
    made = 1
    for size in sizes:
        made *= max(size or 0, 1)
    return made
