"""A step as a sentence that people read."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from patient_ladle.words import amount

from . import declared as d


def in_words(step: Any) -> str:
    """What it does, in one line."""
    return _WORDS[type(step)](step)


def _all(names: Iterable[Any]) -> str:
    return ", ".join(str(name) for name in names)


def _within(step: Any) -> str:
    return f" within {_all(step.within)}" if step.within else ""


def _order(order: Sequence[Any]) -> str:
    made = [each if isinstance(each, d.Order) else d.Order(each) for each in order]
    return _all(f"{each.column}{', descending' if each.descending else ''}" for each in made)


def _ordered(step: Any) -> str:
    return f" in the order of {_order(step.order)}" if step.order else ""


def _renamed(columns: Sequence[d.Named]) -> str:
    return _all(each.name if each.name == each.as_ else f"{each.as_} as {each.name}" for each in columns)


def _group(step: d.Group) -> str:
    made = _all(f"{each.name} = {each.as_}" for each in step.columns)
    return f"group by {_all(step.by)}" + (f": {made}" if made else "") if step.by else f"all rows as one: {made}"


def _duplicates(step: d.DropDuplicates) -> str:
    return f"keep the {step.keep} of rows equal in {_all(step.by) or 'every column'}{_ordered(step)}"


def _fill(step: d.FillNulls) -> str:
    value = "the last value before" if step.value is None else repr(step.value)
    return f"fill nulls of {_all(step.columns)} with {value}{_within(step)}{_ordered(step)}"


def _rows_to_columns(step: d.RowsToColumns) -> str:
    known = f" ({_all(step.known)})" if step.known else ""
    totals = [f"'{each}'" for each in (step.column_total, step.row_total) if each]
    rows = f" for each {_all(step.rows)}" if step.rows else ""
    return f"{step.aggregate} of {step.values} by {step.names}{known} across{rows}" + (
        f", with {_all(totals)}" if totals else ""
    )


def _look_up(step: d.LookUp) -> str:
    on = " and ".join(each.name if each.name == each.as_ else f"{each.name} = {each.as_}" for each in step.on)
    missing = {"null": "", "drop": ", rows without a match go", "fail": ", each row must have a match"}[step.missing]
    where = step.lookup or f"the input {step.input}"
    return f"look up {_renamed(step.columns)} in {where} by {on}{missing}"


def _replace(step: d.Replace) -> str:
    shown = _all(f"{pair.from_!r} by {'null' if pair.to is None else repr(pair.to)}" for pair in step.values[:3])
    more = f" and {len(step.values) - 3} more" if len(step.values) > 3 else ""
    return f"in {step.column} replace {shown}{more}" + (", others by null" if step.others == "null" else "")


def _change(step: d.ChangeKind) -> str:
    places = f" with {amount(step.places, 'place')}" if step.kind == "decimal" else ""
    return f"{step.column} becomes {step.kind}{places}" + (", null where it is none" if step.unfit == "null" else "")


_WORDS: dict[type, Callable[[Any], str]] = {
    d.Filter: lambda s: f"keep rows where {s.where}",
    d.Compute: lambda s: f"new column {s.column} = {s.as_}",
    d.Group: _group,
    d.Share: lambda s: f"{s.column} = share of {s.of} in its total{_within(s)}",
    d.RunningTotal: lambda s: f"{s.column} = running total of {s.of}{_within(s)}{_ordered(s)}",
    d.Difference: lambda s: f"{s.column} = {s.of} less that of the row before{_within(s)}{_ordered(s)}",
    d.Rank: lambda s: f"{s.column} = rank by {_order(s.order)}{_within(s)}",
    d.First: lambda s: f"keep the first {amount(s.rows, 'row')}{_within(s)}{_ordered(s)}",
    d.Sort: lambda s: f"sort by {_order(s.order)}",
    d.DropDuplicates: _duplicates,
    d.FillNulls: _fill,
    d.RowsToColumns: _rows_to_columns,
    d.ColumnsToRows: lambda s: f"{_all(s.columns)} become rows of {s.name_column} and {s.value_column}",
    d.LookUp: _look_up,
    d.Split: lambda s: f"split {s.column} at '{s.at}' into {_all(s.into)}",
    d.Replace: _replace,
    d.ChangeKind: _change,
    d.Rename: lambda s: f"rename {_all(f'{each.name} to {each.as_}' for each in s.columns)}",
    d.Reorder: lambda s: f"{_all(s.columns)} first",
    d.Drop: lambda s: f"without {_all(s.columns)}",
}
