"""One step while it is compiled: what it may name, what its fields may say, and how what is wrong with one is told."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Protocol

from ..errors import BadInput, LadleError, StatementWrong, unknown_name
from ..statements.languages.duckdb import kind_named
from ..statements.languages.sql import string
from . import declared as d
from .expressions import check_columns, columns_compared, constants_met, in_brackets, judge

if TYPE_CHECKING:
    from .chain import Chain

ROW = '"ladle row"'
"""The hidden column."""
NUMBERS = ("integer", "decimal", "float")
ANY = "any"
"""The kind of a column whose values say what they are: it is known once they are read."""


@dataclass(frozen=True, slots=True)
class Field:
    """A column between two steps, and the engine's type of it."""

    name: str
    type: str

    @property
    def kind(self) -> str:
        """The canonical one; ``any`` where only the values will tell."""
        return ANY if self.type.strip('"').upper() == "NULL" else kind_named(self.type)


@dataclass(frozen=True, slots=True)
class Test:
    """What must be so before the result is: a statement of one row, (how many are not so, an example)."""

    where: str
    query: str
    words: str
    hint: str


class Judge(Protocol):
    """The combining engine, asked while steps are compiled. Each method raises errors of ``core.errors``."""

    def tree(self, expression: str) -> Mapping[str, Any]:
        """The engine's parse of ``select`` and the expression, as JSON."""

    def described(self, query: str) -> list[Field]:
        """Columns of a statement, which is not run."""

    def fits(self, text: str, type_: str) -> bool:
        """Whether a text is a value of a type."""

    def found(self, query: str) -> list[Any] | None:
        """The first column of a statement that is run, as canonical texts; None while there is nothing to run it on."""


def quoted(name: str) -> str:
    """A name as the engine takes it, whatever is in it."""
    return '"' + name.replace('"', '""') + '"'


def is_own(name: str) -> bool:
    """Whether a name is that of the hidden column; small and capital letters are the same to the engine."""
    return quoted(name.lower()) == ROW


def literal(value: Any) -> str:
    """A constant of a step."""
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return str(value)
    return f"cast('{value!r}' as double)" if isinstance(value, float) and "e" in repr(value) else _plain(value)


def _plain(value: Any) -> str:
    return repr(value) if isinstance(value, float) else string(str(value))


class At:
    """One step while it is compiled: what it may name, and how what is wrong with it is told."""

    def __init__(self, chain: Chain, number: int, step: Any) -> None:
        self.chain, self.number, self.step = chain, number, step
        self.fields = chain.fields
        self.table = chain.last
        self.measured: dict[str, str] = {}

    def where(self, name: str = "") -> str:
        """The path of a field."""
        return f"steps[{self.number}]" + (f".{name}" if name else "")

    @contextmanager
    def named(self) -> Iterator[None]:
        """What is wrong within is told with the step's number and name, and the field where it is known."""
        try:
            yield
        except LadleError as error:
            where = str(error.facts.get("where") or self.where())
            title = f" '{self.step.name}'" if self.step.name else ""
            field_ = where.partition("]")[2].lstrip(".")
            place = f"step {self.number + 1}{title}" + (f", {field_.replace('.', ' ')}" if field_ else "")
            said = error.message.removeprefix("the database rejected the statement: ")
            kind = BadInput if isinstance(error, StatementWrong) else type(error)
            facts = {key: value for key, value in error.facts.items() if key not in ("line", "column")}
            raise kind(f"{place}: {said}", error.hint, **(facts | {"where": where})) from error

    def refused(self, name: str, what: str, hint: str) -> BadInput:
        """A refusal of one field."""
        return BadInput(f"{what}.", hint, where=self.where(name))

    def column(self, given: str, name: str) -> Field:
        """A column that is there. Raises BadInput with the nearest name."""
        for each in self.fields:
            if each.name.lower() == given.lower():
                return each
        if self.chain.open:
            return Field(given, '"NULL"')
        found = unknown_name("column", given, [each.name for each in self.fields])
        raise BadInput(found.message, found.hint, where=self.where(name))

    def columns(self, given: Sequence[str], name: str) -> list[Field]:
        """Columns that are there, each once."""
        made = [self.column(each, f"{name}[{place}]") for place, each in enumerate(given)]
        twice = next((each.name for place, each in enumerate(made) if each in made[:place]), None)
        if twice is not None:
            raise self.refused(name, f"'{twice}' is named twice", "Name it once.")
        return made

    def number_column(self, given: str, name: str) -> Field:
        """One of numbers."""
        found = self.column(given, name)
        if found.kind not in (*NUMBERS, ANY):
            raise self.refused(
                name, f"'{found.name}' is {found.kind}, where a number is wanted", "Change its kind in a step before this one."
            )
        return found

    def free(self, given: str, name: str, besides: Sequence[str] = ()) -> str:
        """A name that no column has. ``besides``: those that go in this step."""
        going = {each.lower() for each in besides}
        if any(each.name.lower() == given.lower() for each in self.fields if each.name.lower() not in going):
            raise self.refused(name, f"there is a column '{given}' already", "Give it another name, or drop that one before.")
        if is_own(given):
            raise self.refused(name, f"'{given}' is a name of the service's own", "Give it another name.")
        return quoted(given)

    def all_free(self, given: Sequence[str], name: str, besides: Sequence[str] = ()) -> list[str]:
        """The same of several, none of them twice."""
        lower = [each.lower() for each in given]
        twice = next((each for place, each in enumerate(given) if each.lower() in lower[:place]), None)
        if twice is not None:
            raise self.refused(name, f"two columns would be named '{twice}'", "Give one another name.")
        return [self.free(each, name, besides) for each in given]

    def expression(self, text: str, name: str, aggregates: bool = False) -> str:
        """An expression that may stand here. Raises BadInput."""
        where, bracketed = self.where(name), in_brackets(text)
        tree = self.chain.judge.tree(bracketed)
        used = judge(tree, where, aggregates)
        check_columns(used, [each.name for each in self.fields], where, self.chain.open)
        kinds = {each.name.lower(): each for each in self.fields}
        for column, constant in constants_met(tree):
            found = kinds.get(column.lower())
            if found is not None and found.kind != ANY and not self.chain.judge.fits(constant, found.type):
                raise self.refused(
                    name,
                    f"'{constant}' is compared with '{found.name}', which is {found.kind}",
                    f"Write a value of {found.kind}.",
                )
        for pair in columns_compared(tree):
            both = [kinds[each.lower()] for each in pair if each.lower() in kinds]
            if len(both) == 2 and not comparable(both[0].kind, both[1].kind):
                raise self.refused(name, unlike(both[0], both[1]), "Change the kind of one in a step before this one.")
        return bracketed

    def over(self, within: Sequence[str], order: Sequence[Any], frame: str = "", backwards: bool = False) -> str:
        """A window; rows that are equal keep their order, or, ``backwards``, come in the other one."""
        ordered = [*self.ordered(order, backwards), ROW + (" desc" if backwards else "")]
        return f"over ({self.partition(within)}order by {', '.join(ordered)}{' ' + frame if frame else ''})"

    def partition(self, within: Sequence[str]) -> str:
        """Of a window: each group of equal values by itself; empty where all rows are one."""
        parts = [quoted(each.name) for each in self.columns(within, "within")]
        return f"partition by {', '.join(parts)} " if parts else ""

    def ordered(self, order: Sequence[Any], backwards: bool = False) -> list[str]:
        """By what rows are ordered; null last."""
        made = []
        for place, each in enumerate(order):
            by = each if isinstance(each, d.Order) else d.Order(each)
            found = self.column(by.column, f"order[{place}]")
            way = "desc" if by.descending != backwards else "asc"
            made.append(f"{quoted(found.name)} {way} nulls {'first' if backwards else 'last'}")
        return made

    def listed(self, changed: Mapping[str, str] | None = None, without: Sequence[str] = ()) -> list[str]:
        """All columns and the hidden one; ``changed``: expressions for some, by their names in small letters."""
        going = {each.lower() for each in without}
        made = []
        for each in self.fields:
            if each.name.lower() not in going:
                own = (changed or {}).get(each.name.lower())
                made.append(f"{own} as {quoted(each.name)}" if own else quoted(each.name))
        return [*made, ROW]

    def select(self, columns: Sequence[str], rest: str = "") -> str:
        """From the step before."""
        return f"select {', '.join(columns)} from {self.table}{' ' + rest if rest else ''}"

    def constant(self, value: Any, of: Field, name: str) -> str:
        """A constant in a column's type. Raises BadInput where it does not fit."""
        if value is None or of.kind == ANY:
            return literal(value)
        said = str(value).lower() if isinstance(value, bool) else str(value)
        is_number = isinstance(value, (int, float)) and not isinstance(value, bool)
        alike = is_number if of.kind in NUMBERS else isinstance(value, bool) if of.kind == "boolean" else isinstance(value, str)
        if not alike or not self.chain.judge.fits(said, of.type):
            raise self.refused(name, f"'{said}' does not fit '{of.name}', which is {of.kind}", f"Give a value of {of.kind}.")
        return f"cast({string(said)} as {of.type})"


def comparable(one: str, other: str) -> bool:
    """Whether values of two kinds may be compared without anything being guessed."""
    alike = [set(NUMBERS), {"date", "timestamp"}]
    return one == other or ANY in (one, other) or any({one, other} <= group for group in alike)


def unlike(one: Field, other: Field) -> str:
    """Why two columns are not compared."""
    return f"'{one.name}' is {one.kind} and '{other.name}' is {other.kind}: the number 1 and the text '1' are not the same"
