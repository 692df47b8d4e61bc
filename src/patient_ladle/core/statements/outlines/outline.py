"""An outline: what a statement reads, joins, shows and asks, as plain data, in the order in which one thinks.

*From* a table *with* others *show* columns *where* conditions hold, *grouped*, *having*, *sorted*, the *first* so many. A
column is named ``alias.column``, or by itself where there is one table. It is JSON; ``schema()`` describes it.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from typing import Annotated, Any, Literal, get_args

import msgspec
from msgspec import Meta

from ...errors import BadInput, nearest

VERSION = 1
Test = Literal[
    "is", "is_not", "less", "at_most", "more", "at_least", "between", "in_list", "not_in_list", "contains", "begins_with",
    "matches", "is_null", "is_not_null", "in_period",
    "holds",
]  # fmt: skip
Bucket = Literal["", "day", "week", "month", "quarter", "year"]
Aggregate = Literal["", "count", "count_distinct", "sum", "mean", "min", "max", "median", "first", "last"]
Operator = Literal["=", "<>", "<", "<=", ">", ">="]
TESTS: tuple[str, ...] = get_args(Test)
BUCKETS: tuple[str, ...] = get_args(Bucket)[1:]
AGGREGATES: tuple[str, ...] = get_args(Aggregate)[1:]
MOST_TABLES = 40
MOST_COLUMNS = 1_000
MOST_CONDITIONS = 200
DEEPEST = 8
"""Groups of conditions within groups."""
_UNFIT = re.compile(r"[\0-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff]")
_ALIAS = re.compile(r"[^\W\d]\w{0,62}")
_AT = re.compile(r" - at `(?P<path>.*)`$")
_UNKNOWN = re.compile(r"unknown field `(?P<name>[^`]*)`")


class _Part(
    msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True,
    rename={"from_": "from", "with_": "with", "as_": "as", "is_": "is", "all_": "all", "any_": "any"},
):  # fmt: skip
    """What all parts share: unknown fields are refused, defaults left unsaid."""


class Place(_Part, frozen=True):
    """A table, and the short name that its columns are named by; its own name where none is given."""

    table: str
    as_: Annotated[str, Meta(description="Short name; the table's own where it is left out.")] = ""

    @property
    def alias(self) -> str:
        """Never empty."""
        return self.said_as or self._own

    @property
    def said_as(self) -> str:
        """The short name that has to be written; one is made where the table's own is more than letters, digits and ``_``."""
        if self.as_ or _ALIAS.fullmatch(self._own):
            return self.as_
        made = re.sub(r"\W+", "_", self._own).strip("_")[:60]
        return made if _ALIAS.fullmatch(made) else f"t_{made}".rstrip("_")

    @property
    def _own(self) -> str:
        return self.table.rsplit(".", 1)[-1]


class Pair(_Part, frozen=True, kw_only=True):
    """Two columns that a join compares; ``left`` is of a table named before."""

    left: Annotated[str, Meta(description="A column of a table named before: alias.column.")]
    is_: Annotated[Operator, Meta(description="How the two are compared.")] = "="
    right: Annotated[str, Meta(description="A column of the joined table: alias.column.")]


class Join(Place, frozen=True):
    """One more table; without ``on`` each of its rows meets each of the others."""

    join: Annotated[
        Literal["inner", "left", "right", "full"],
        Meta(description="Whose rows are kept that meet none: nobody's, those before, its own, or both."),
    ] = "inner"
    on: Annotated[tuple[Pair, ...], Meta(description="All of these hold.")] = ()


class Term(_Part, frozen=True):
    """A column or an expression; by a period of time where ``bucket`` is given, then aggregated."""

    column: Annotated[str, Meta(description="alias.column, or the column where there is one table.")] = ""
    expression: Annotated[str, Meta(description="In the source's own language, instead of a column.")] = ""
    bucket: Annotated[Bucket, Meta(description="The first day of the day, week (from Monday), month and so on.")] = ""
    aggregate: Annotated[Aggregate, Meta(description="count without a column counts rows.")] = ""
    by: Annotated[str, Meta(description="For first and last: the column that says which comes first.")] = ""


class Shown(Term, frozen=True):
    """A column of the result."""

    name: Annotated[str, Meta(description="Its name in the result; that of the column where it is left out.")] = ""


class Given(_Part, frozen=True):
    """What is compared with: a parameter of the extract, or another column."""

    parameter: str = ""
    column: str = ""


Operand = str | int | float | bool | Given


class Condition(Term, frozen=True):
    """A test of a term; or a group, which has one of *all*, *any*, *none* and nothing else."""

    test: Annotated[Test, Meta(description="holds: the expression is a condition itself.")] = "is"
    value: Annotated[
        Operand | None, Meta(description="A constant, a date phrase such as 'last quarter', a parameter, another column.")
    ] = None
    values: Annotated[tuple[Operand, ...], Meta(description="For between two, for in_list any number.")] = ()
    all_: tuple[Condition, ...] | None = None
    any_: tuple[Condition, ...] | None = None
    none: tuple[Condition, ...] | None = None

    @property
    def group(self) -> tuple[str, tuple[Condition, ...]] | None:
        """``all``, ``any`` or ``none``, and of what; None for a test."""
        for word, members in (("all", self.all_), ("any", self.any_), ("none", self.none)):
            if members is not None:
                return word, members
        return None


class Sorted(_Part, frozen=True):
    """By what rows are sorted."""

    by: Annotated[str, Meta(description="The name of a shown column, or alias.column.")]
    descending: bool = False
    nulls: Annotated[
        Literal["", "first", "last"], Meta(description="Where rows without a value go; empty: as the engine has it.")
    ] = ""


class Outline(_Part, frozen=True, kw_only=True):
    """See the module."""

    outline: Annotated[Literal[1], Meta(description="The version of this schema.")] = 1
    from_: Place
    with_: Annotated[tuple[Join, ...], Meta(description="Joined in this order.")] = ()
    show: Annotated[tuple[Shown, ...], Meta(description="Empty: every column of every table.")] = ()
    distinct: Annotated[bool, Meta(description="Each row once.")] = False
    where: Annotated[Condition | None, Meta(description="Which rows; usually a group.")] = None
    grouped: Annotated[tuple[Term, ...], Meta(description="By what rows are brought together.")] = ()
    having: Annotated[Condition | None, Meta(description="Which groups.")] = None
    sorted: tuple[Sorted, ...] = ()
    first: Annotated[Annotated[int, Meta(ge=1)] | None, Meta(description="At most so many rows.")] = None

    @classmethod
    def from_dict(cls, data: Any) -> Outline:
        """Read and check what can be told without a catalogue. Raises BadInput; its fact ``where`` says at which part."""
        if not isinstance(data, Mapping):
            raise BadInput("an outline is an object.", 'Such as {"outline": 1, "from": {"table": "meters"}}.', where="")
        version = data.get("outline")
        if version != VERSION or isinstance(version, bool):
            raise BadInput(
                f"the outline says {'no version' if version is None else f'version {json.dumps(version)[:40]}'}; this release"
                f" reads version {VERSION}.",
                f'Begin it with "outline": {VERSION}, and look at the schema for what has changed.', where="outline",
            )  # fmt: skip
        try:
            made = msgspec.convert(data, cls)
        except (msgspec.ValidationError, RecursionError) as error:
            raise _unreadable(data, error) from None
        _check_text(made.to_dict())
        _check_sizes(made)
        return made

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON, without what is as it is by default."""
        made: dict[str, Any] = plain(self)
        return {"outline": VERSION} | made

    @property
    def places(self) -> tuple[Place, ...]:
        """All tables, in their order."""
        return (self.from_, *self.with_)

    def tests(self) -> Iterator[tuple[str, Condition]]:
        """Every test of *where* and *having*, with its path: ``where.all[0]``."""
        for name in ("where", "having"):
            condition = getattr(self, name)
            yield from () if condition is None else tests_in(condition, name)

    def terms(self) -> Iterator[tuple[str, Term]]:
        """Every term, with its path."""
        yield from ((f"show[{number}]", term) for number, term in enumerate(self.show))
        yield from ((f"grouped[{number}]", term) for number, term in enumerate(self.grouped))
        yield from self.tests()


def plain(part: Any) -> Any:
    """A part as JSON, without what is as it is by default: compared by value, for parts come from other processes too."""
    if isinstance(part, tuple):
        return [plain(each) for each in part]
    if not isinstance(part, msgspec.Struct):
        return part
    fields = [(each, getattr(part, each.name)) for each in msgspec.structs.fields(part)]
    return {each.encode_name: plain(value) for each, value in fields if value != each.default}


def tests_in(condition: Condition, path: str) -> Iterator[tuple[str, Condition]]:
    """The tests of a condition, with their paths."""
    if condition.group is None:
        yield path, condition
        return
    word, members = condition.group
    for number, member in enumerate(members):
        yield from tests_in(member, f"{path}.{word}[{number}]")


def path_of(where: str) -> str:
    """A path as a person reads it, counted from 1: *show 2*, *where, all 1*."""
    return re.sub(r"\[(\d+)\]", lambda found: f" {int(found[1]) + 1}", where).replace(".", ", ")


def refused(where: str, what: str, hint: str) -> BadInput:
    """A refusal of one part of an outline."""
    return BadInput(f"{path_of(where)}: {what}." if where else f"{what}.", hint, where=where)


def schema() -> dict[str, Any]:
    """Of the JSON form (JSON Schema 2020-12)."""
    made = msgspec.json.schema(Outline)
    for each in made["$defs"].values():
        each["description"] = " ".join(str(each.get("description", "")).split())
    outline = made["$defs"]["Outline"]
    outline["required"] = ["outline", *outline["required"]]
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Outline of a statement"} | made


def _unreadable(data: Mapping[str, Any], error: Exception) -> BadInput:
    if isinstance(error, RecursionError):
        return refused("", f"the outline is nested more than {DEEPEST} deep", "Bring some groups of conditions together.")
    said = str(error)
    found = _AT.search(said)
    where = found["path"].removeprefix("$").removeprefix(".") if found else ""
    what = _AT.sub("", said).replace("`", "'").removesuffix(".")
    unknown = _UNKNOWN.search(said)
    hint = "Look at the schema: ladle outline schema."
    if unknown:
        close = nearest(unknown["name"], {name for each in _parts() for name in each.__struct_encode_fields__})
        hint = f"Did you mean '{close}'? {hint}" if close else hint
    return refused(where, what[:1].lower() + what[1:], hint)


def _parts() -> tuple[type[msgspec.Struct], ...]:
    return (Outline, Place, Pair, Join, Term, Shown, Given, Condition, Sorted)


def _check_text(data: Any) -> None:
    left = [data]
    while left:
        here = left.pop()
        if isinstance(here, str):
            if _UNFIT.search(here):
                raise refused("", f"{here[:40]!r} holds a control character", "Leave it out.")
        elif isinstance(here, Mapping):
            left += here.values()
        elif isinstance(here, (list, tuple)):
            left += here


def _check_sizes(outline: Outline) -> None:
    for what, count, most in (
        ("tables", len(outline.places), MOST_TABLES),
        ("columns", len(outline.show) + len(outline.grouped), MOST_COLUMNS),
        ("conditions", sum(1 for _ in outline.tests()), MOST_CONDITIONS),
    ):
        if count > most:
            raise refused("", f"there are {count:,} {what}; at most {most:,} are taken", "Write the statement as text instead.")
    seen: dict[str, int] = {}
    for number, place in enumerate(outline.places):
        where = f"with[{number - 1}]" if number else "from"
        if not place.table:
            raise refused(where, "no table is named", "Name one.")
        if not _ALIAS.fullmatch(place.alias):
            raise refused(where, f"'{place.alias}' cannot be a short name", 'Give one of letters and digits: "as": "m".')
        if place.alias.lower() in seen:
            raise refused(
                where, f"a table before is called '{place.alias}' too", f'Give it another short name: "as": "{place.alias}2".'
            )
        seen[place.alias.lower()] = number
    for name in ("where", "having"):
        condition = getattr(outline, name)
        if condition is not None:
            _check_condition(condition, name, 1)
    for where, term in outline.terms():
        _check_term(where, term, aggregates=not where.startswith(("where", "grouped")))


def _check_condition(condition: Condition, where: str, depth: int) -> None:
    groups = [each for each in (condition.all_, condition.any_, condition.none) if each is not None]
    if depth > DEEPEST:
        raise refused(where, f"groups of conditions are nested more than {DEEPEST} deep", "Bring some of them together.")
    if len(groups) > 1 or (groups and (condition.column or condition.expression or condition.value is not None)):
        raise refused(where, "a group has one of all, any and none, and nothing else", "Nest the others in it.")
    if condition.group is not None:
        word, members = condition.group
        if not members:
            raise refused(where, f"there is nothing in '{word}'", "Put conditions into it, or leave the group out.")
        for number, member in enumerate(members):
            _check_condition(member, f"{where}.{word}[{number}]", depth + 1)


def _check_term(where: str, term: Term, aggregates: bool) -> None:
    if term.column and term.expression:
        raise refused(where, "there is a column and an expression", "Leave one of them out.")
    if not term.column and not term.expression.strip() and term.aggregate != "count":
        raise refused(where, "neither a column nor an expression is named", "Name one.")
    if term.aggregate and not aggregates:
        raise refused(where, f"'{term.aggregate}' cannot stand here", "Conditions on groups stand in having.")
    if bool(term.by) != (term.aggregate in ("first", "last")):
        what = (
            "'by' goes with first and last" if term.by else f"'{term.aggregate}' needs the column that says which comes first"
        )
        raise refused(where, what, 'Such as "aggregate": "last", "by": "r.read_at".')
