"""Steps that need no whole result: columns under other names, in another order, or gone. They are done to batches as they pass.

Others need all rows, and a filter does too: what a column's values are, and so what a condition means, is known from all of
them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from ..results.columns import Column
from . import declared as d

PASSING = (d.Rename, d.Reorder, d.Drop)


def pass_by(steps: Sequence[tuple[int, Any]]) -> bool:
    """Whether all of them are done to batches as they pass."""
    return bool(steps) and all(isinstance(step, PASSING) for _, step in steps)


def passed(columns: Sequence[Column], steps: Sequence[tuple[int, Any]]) -> list[tuple[int, Column]]:
    """The columns after such steps, which were checked, each with its place before them."""
    left = list(enumerate(columns))
    for _, step in steps:
        if isinstance(step, d.Rename):
            new = {each.name.lower(): each.as_ for each in step.columns}
            left = [(place, replace(column, name=new.get(column.name.lower(), column.name))) for place, column in left]
            continue
        named = [name.lower() for name in step.columns]
        if isinstance(step, d.Drop):
            left = [(place, column) for place, column in left if column.name.lower() not in named]
        else:
            first = {name: number for number, name in enumerate(named)}
            left.sort(key=lambda each: first.get(each[1].name.lower(), len(first)))
    return left
