"""Steps as plain data: what each kind is told. JSON or TOML; ``schema()`` describes it.

A step is one of a closed list and runs no code: whatever a general language would be needed for belongs into the statement
of the source, or into a program that reads the result.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal, Union, get_args

import msgspec
from msgspec import Meta

from ..errors import BadInput, nearest, unknown_name
from ..statements.outlines.outline import plain

MOST_STEPS = 100
MOST_FOUND = 1_600
"""Columns that values may become at most, whatever a step says: what a sheet still shows and a reader still finds."""
_AT = re.compile(r" - at `(?P<path>.*)`$")
_UNKNOWN = re.compile(r"unknown field `(?P<name>[^`]*)`")
_UNFIT = re.compile(r"[\0-\x08\x0b\x0c\x0e-\x1f\x7f\ud800-\udfff]")

Name = Annotated[str, Meta(min_length=1, max_length=200)]
Expression = Annotated[str, Meta(min_length=1, max_length=5_000)]
Scalar = str | int | float | bool
Kind = Literal["text", "integer", "decimal", "float", "boolean", "date", "timestamp"]
Aggregate = Literal["sum", "count", "min", "max", "avg"]


class Order(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A column that rows are ordered by; null comes last either way."""

    column: Name
    descending: bool = False


class Named(msgspec.Struct, frozen=True, forbid_unknown_fields=True, rename={"as_": "as"}):
    """A name, and what stands for it."""

    name: Name
    as_: Expression


NamedAll = tuple[Named, ...]
"""In their order. ``{"name": "as"}`` is taken as well, and kept like this: an object's fields have no order in a database."""
By = tuple[Name | Order, ...]
Within = Annotated[
    tuple[Name, ...], Meta(description="Each group of equal values of these by itself; none: all rows together.")
]
Sorted = Annotated[By, Meta(description="Columns, or {column, descending}; rows that are equal in them keep their order.")]


class Step(
    msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, kw_only=True, tag_field="step",
    rename={"as_": "as"},
):  # fmt: skip
    """What every kind of step can be told."""

    name: Annotated[str, Meta(max_length=80, description="What it is called; by default by what it does.")] = ""
    off: Annotated[bool, Meta(description="It stays where it is and does nothing.")] = False
    statement: Annotated[int, Meta(ge=1, description="Whose result: the number of the statement, where there are several.")] = 1


class Filter(Step, frozen=True, tag="filter"):
    """Rows for which a condition holds."""

    where: Annotated[Expression, Meta(description="A condition: litres > 0 and district is not null.")]


class Compute(Step, frozen=True, tag="compute"):
    """A new column."""

    column: Annotated[Name, Meta(description="Its name, which must be free.")]
    as_: Annotated[Expression, Meta(description="Such as litres / 1000.")]


class Group(Step, frozen=True, tag="group"):
    """One row for each group of equal values."""

    by: Annotated[tuple[Name, ...], Meta(description="None: one row for all.")] = ()
    columns: Annotated[
        NamedAll, Meta(description="New columns, each with an expression over the group: sum(litres), count(*).")
    ] = ()


class Share(Step, frozen=True, tag="share_of_total"):
    """Each row's part of a sum, from 0 to 1; null where the sum is 0."""

    of: Name
    column: Name
    within: Within = ()


class RunningTotal(Step, frozen=True, tag="running_total"):
    """The sum up to each row."""

    of: Name
    column: Name
    within: Within = ()
    order: Sorted = ()


class Difference(Step, frozen=True, tag="difference"):
    """To the row before; null for the first."""

    of: Name
    column: Name
    within: Within = ()
    order: Sorted = ()


class Rank(Step, frozen=True, tag="rank"):
    """A row's place, from 1."""

    column: Name
    order: Annotated[By, Meta(min_length=1)]
    within: Within = ()
    ties: Annotated[
        Literal["gaps", "dense", "none"],
        Meta(description="Equal rows share a place and the next ones are left out; or none is left out; or none is shared."),
    ] = "gaps"


class First(Step, frozen=True, tag="first_rows"):
    """The first rows, of each group."""

    rows: Annotated[int, Meta(ge=1)]
    within: Within = ()
    order: Sorted = ()


class Sort(Step, frozen=True, tag="sort"):
    """Rows in another order."""

    order: Annotated[By, Meta(min_length=1)]


class DropDuplicates(Step, frozen=True, tag="drop_duplicates"):
    """One row of those that are equal."""

    by: Annotated[tuple[Name, ...], Meta(description="None: equal in every column.")] = ()
    keep: Literal["first", "last"] = "first"
    order: Sorted = ()


class FillNulls(Step, frozen=True, tag="fill_nulls"):
    """A value in place of null: a constant, or that of the row before."""

    columns: Annotated[tuple[Name, ...], Meta(min_length=1)]
    value: Annotated[Scalar | None, Meta(description="Null: the last value before that is none.")] = None
    within: Within = ()
    order: Sorted = ()


class RowsToColumns(Step, frozen=True, tag="rows_to_columns"):
    """Values of a column become columns: years side by side."""

    names: Annotated[Name, Meta(description="The column whose values become names.")]
    values: Annotated[Name, Meta(description="The column whose values stand in them.")]
    aggregate: Annotated[Aggregate, Meta(description="Where several rows meet in one place.")] = "sum"
    rows: Annotated[tuple[Name, ...], Meta(description="What a row is about; none: all other columns.")] = ()
    known: Annotated[tuple[Scalar, ...], Meta(description="The values, in their order; none: those found, sorted.")] = ()
    most: Annotated[int, Meta(ge=1, le=MOST_FOUND, description="More values than this are refused.")] = 100
    null_name: Annotated[Name, Meta(description="The column of rows whose name is null.")] = "null"
    empty_name: Annotated[Name, Meta(description="The column of rows whose name is an empty text.")] = "empty"
    column_total: Annotated[str, Meta(max_length=200, description="Name of a last column over all of them.")] = ""
    row_total: Annotated[str, Meta(max_length=200, description="Word in the first column of a last row over all rows.")] = ""


class ColumnsToRows(Step, frozen=True, tag="columns_to_rows"):
    """Columns become rows: a name and a value."""

    columns: Annotated[tuple[Name, ...], Meta(min_length=1)]
    name_column: Name = "name"
    value_column: Name = "value"
    keep_nulls: bool = True


class LookUp(Step, frozen=True, tag="look_up"):
    """Columns of a lookup, or of an input of the combination, beside each row."""

    on: Annotated[NamedAll, Meta(min_length=1, description="A column of the row, and the other's that it must be equal to.")]
    columns: Annotated[NamedAll, Meta(min_length=1, description="A new column, and the other's that it is.")]
    lookup: Annotated[Name | None, Meta(description="The name of the lookup; this or input.")] = None
    input: Annotated[Name | None, Meta(description="The name of the input; this or lookup.")] = None
    missing: Annotated[
        Literal["null", "drop", "fail"], Meta(description="What a row without a match gets: null, or goes, or fails the run.")
    ] = "null"


class Split(Step, frozen=True, tag="split"):
    """A text in parts; what is left over stays in the last."""

    column: Name
    at: Annotated[Name, Meta(description="Between the parts.")]
    into: Annotated[tuple[Name, ...], Meta(min_length=2, max_length=50)]
    keep: Annotated[bool, Meta(description="The column stays beside its parts.")] = False


class Pair(msgspec.Struct, frozen=True, forbid_unknown_fields=True, rename={"from_": "from"}):
    """A value and what takes its place."""

    from_: Scalar
    to: Scalar | None


class Replace(Step, frozen=True, tag="replace_values"):
    """Values by others."""

    column: Name
    values: Annotated[tuple[Pair, ...], Meta(min_length=1, max_length=1_000)]
    others: Annotated[Literal["keep", "null"], Meta(description="What becomes of values that are not listed.")] = "keep"


class ChangeKind(Step, frozen=True, tag="change_kind"):
    """A column of another kind; nothing is rounded or cut."""

    column: Name
    kind: Kind
    places: Annotated[int, Meta(ge=0, le=18, description="Of a decimal.")] = 6
    unfit: Annotated[Literal["fail", "null"], Meta(description="What becomes of a value that is not of that kind.")] = "fail"


class Rename(Step, frozen=True, tag="rename"):
    """Columns under other names."""

    columns: Annotated[NamedAll, Meta(min_length=1, description="A column, and its new name.")]


class Reorder(Step, frozen=True, tag="reorder"):
    """These first, the others after them."""

    columns: Annotated[tuple[Name, ...], Meta(min_length=1)]


class Drop(Step, frozen=True, tag="drop"):
    """Without these columns."""

    columns: Annotated[tuple[Name, ...], Meta(min_length=1)]


AnyStep = Union[  # noqa: UP007 - a value, not only a type
    Filter, Compute, Group, Share, RunningTotal, Difference, Rank, First, Sort, DropDuplicates, FillNulls, RowsToColumns,
    ColumnsToRows, LookUp, Split, Replace, ChangeKind, Rename, Reorder, Drop,
]  # fmt: skip
KINDS: dict[str, type[Step]] = {str(each.__struct_config__.tag): each for each in get_args(AnyStep)}


def steps_of(given: Any) -> tuple[Any, ...]:
    """Checked as far as can be told without columns. Raises BadInput; its fact ``where`` is a path: ``steps[2].where``."""
    if isinstance(given, Mapping):
        given = given.get("steps")
    if not isinstance(given, Sequence) or isinstance(given, str):
        raise BadInput("steps are a list.", 'Such as [{"step": "filter", "where": "litres > 0"}].', where="steps")
    if len(given) > MOST_STEPS:
        raise refused("steps", f"there are {len(given)} steps, and at most {MOST_STEPS} are taken", "Bring some together.")
    made = []
    for number, item in enumerate(given):
        _check_kind(number, item)
        try:
            made.append(msgspec.convert(_with_pairs(item), AnyStep))
        except (msgspec.ValidationError, RecursionError) as error:
            raise _unreadable(number, item, str(error)) from None
        _check_text(number, item)
        if isinstance(made[-1], LookUp) and (made[-1].lookup is None) == (made[-1].input is None):
            what = "it names neither a lookup nor an input" if made[-1].lookup is None else "it names a lookup and an input"
            raise refused(f"steps[{number}].lookup", what, 'Give one of them: "lookup": …, or "input": … in a combination.')
    _check_names(made)
    return tuple(made)


def numbered(steps: Sequence[Any], statement: int = 1) -> tuple[tuple[int, Any], ...]:
    """Those that do something to one statement's result, each with its place among all, from 0."""
    return tuple((place, step) for place, step in enumerate(steps) if not step.off and step.statement == statement)


def plain_steps(steps: Sequence[Any]) -> list[dict[str, Any]]:
    """The inverse: plain JSON, without what is as it is by default."""
    return [{"step": tag_of(step), **plain(step)} for step in steps]


_PAIRED = ("columns", "on")


def _with_pairs(item: Mapping[str, Any]) -> dict[str, Any]:
    """Objects of names as lists of pairs."""
    return {
        key: [{"name": name, "as": given} for name, given in value.items()]
        if key in _PAIRED and isinstance(value, Mapping)
        else value
        for key, value in item.items()
    }


def tag_of(step: Step) -> str:
    """Its kind, as it is declared."""
    return str(step.__struct_config__.tag)


def title_of(step: Step) -> str:
    """What people call it."""
    return step.name or tag_of(step).replace("_", " ")


def schema() -> dict[str, Any]:
    """Of a file of steps (JSON Schema 2020-12)."""
    return schema_of(tuple[AnyStep, ...], "steps", "Steps on a result")


def schema_of(listed: Any, key: str, title: str) -> dict[str, Any]:
    """Of a file that holds a list under a key (JSON Schema 2020-12)."""
    made = msgspec.json.schema(listed)
    for each in made["$defs"].values():
        each["description"] = " ".join(str(each.get("description", "")).split())
    body = {name: value for name, value in made.items() if name != "$defs"}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": title,
        "type": "object",
        "properties": {key: body},
        "required": [key],
        "additionalProperties": False,
        "$defs": made["$defs"],
    }


def refused(where: str, what: str, hint: str) -> BadInput:
    """A refusal of one step, or of one field of it."""
    return BadInput(f"{path_of(where)}: {what}." if where else f"{what}.", hint, where=where)


def path_of(where: str) -> str:
    """A path as a person reads it: ``steps[1].where`` is *step 2, where*."""
    return re.sub(r"^steps\[(\d+)\]", lambda found: f"step {int(found[1]) + 1}", where).replace(".", ", ")


def _check_kind(number: int, item: Any) -> None:
    where = f"steps[{number}]"
    if not isinstance(item, Mapping) or not isinstance(item.get("step"), str):
        raise refused(where, "it does not say what it does", f'Give it "step": {", ".join(KINDS)}.')
    if item["step"] not in KINDS:
        found = unknown_name("kind of step", item["step"], KINDS)
        raise BadInput(f"step {number + 1}: {found.message}", found.hint, where=f"{where}.step")


def _unreadable(number: int, item: Mapping[str, Any], said: str) -> BadInput:
    found = _AT.search(said)
    path = found["path"].removeprefix("$") if found else ""
    what = _AT.sub("", said).replace("`", "'").removesuffix(".")
    unknown = _UNKNOWN.search(said)
    hint = f"Look at the schema of {item['step']}: ladle extract steps --schema."
    if unknown:
        fields = [each.encode_name for each in msgspec.structs.fields(KINDS[item["step"]])]
        close = nearest(unknown["name"], fields)
        hint = f"Did you mean '{close}'? {hint}" if close else f"It takes {', '.join(fields)}."
    return refused(f"steps[{number}]{path}", what[:1].lower() + what[1:], hint)


def _check_text(number: int, data: Any) -> None:
    left = [data]
    while left:
        here = left.pop()
        if isinstance(here, str) and _UNFIT.search(here):
            raise refused(f"steps[{number}]", f"{here[:40]!r} holds a control character", "Leave it out.")
        if isinstance(here, Mapping):
            left += [*here, *here.values()]
        elif isinstance(here, (list, tuple)):
            left += here


def _check_names(steps: Sequence[Step]) -> None:
    taken: dict[str, int] = {}
    for number, step in enumerate(steps):
        if step.name and step.name.lower() in taken:
            before = taken[step.name.lower()] + 1
            raise refused(f"steps[{number}].name", f"step {before} is called '{step.name}' too", "Give it a name of its own.")
        taken[step.name.lower()] = number
