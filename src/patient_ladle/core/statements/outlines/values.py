"""What the conditions of an outline compare with: constants and date phrases by the kind of their column, and parameters."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from decimal import Decimal

from ...errors import LadleError, nearest
from ...values.parameters import SOME_DAY, Parameter, Scalar
from .forms import Forms
from .outline import Given, Operand, refused

TYPES = {
    "integer": "integer", "decimal": "decimal", "float": "decimal", "boolean": "boolean", "date": "date",
    "timestamp": "timestamp", "zoned": "timestamp", "text": "text",
}  # fmt: skip
"""Of a parameter, by the kind of what it is compared with; of other kinds any will do."""
_NUMBERS, _MOMENTS = ("integer", "decimal"), ("date", "timestamp")
_OTHER_DAY = date(2019, 7, 9)
"""A phrase means another day when it is said on another day."""


@dataclass
class Parameters:
    """Those that an extract declares, and those that an outline brings: date phrases that it says."""

    declared: Sequence[Parameter]
    brought: dict[str, Parameter] = field(default_factory=dict)

    def named(self, name: str, kind: str, wants: str, where: str) -> Parameter:
        """A declared one. ``wants``: one, list or period. Raises BadInput."""
        known = {each.name: each for each in self.declared}
        found = known.get(name)
        if found is None:
            close = nearest(name, known)
            said = f"Did you mean ':{close}'? " if close else ""
            raise refused(where, f"the parameter ':{name}' is not declared", f"{said}Declare it, or give a value.")
        is_a = "period" if found.type == "period" else "list" if found.is_list else "one"
        if is_a != wants:
            names = {"one": "one value", "list": "a list", "period": "a period"}
            raise refused(where, f"the parameter ':{name}' is {names[is_a]}", f"Here {names[wants]} is wanted.")
        right = TYPES.get(kind)
        alike = right is None or is_a == "period" or found.type in (right, "identifier")
        if not alike and not any(found.type in group and right in group for group in (_NUMBERS, _MOMENTS)):
            raise refused(where, f"the parameter ':{name}' is of type {found.type}", f"The column wants {right}.")
        return found

    def bring(self, type_: str, phrase: str, column: str) -> Parameter:
        """One of the outline's own, whose default is a date phrase; the same phrase on the same column is one."""
        stem = re.sub(r"[^a-z0-9_]+", "_", column.rpartition(".")[2].lower()).strip("_")[:40] or "at"
        stem = f"{stem}_{'period' if type_ == 'period' else 'date'}"
        stem = stem if stem[0].isalpha() else f"p_{stem}"
        number = 1
        while True:
            name = stem if number == 1 else f"{stem}_{number}"
            own = self.brought.get(name)
            theirs = next((each for each in self.declared if each.name == name), None)
            if own is not None and (own.type, own.default) == (type_, phrase):
                return own
            if own is None and (theirs is None or theirs.type == type_):
                break
            number += 1
        self.brought[name] = Parameter(name, type_, default=phrase)
        return self.brought[name]


def constant(value: Operand, kind: str, where: str, forms: Forms) -> Scalar:
    """A value in the column's kind. Raises BadInput for what is none of it."""
    assert not isinstance(value, Given)
    if isinstance(value, bool) and kind == "integer" and forms.numbers_for_booleans:
        return value
    type_ = TYPES.get(kind) or _type_of(value)
    given = str(value) if type_ == "text" or (isinstance(value, float) and type_ == "decimal") else value
    if isinstance(value, bool) and type_ not in ("boolean", "text"):
        given = str(value).lower()
    try:
        found = Parameter("value", type_).read(given, SOME_DAY)
    except LadleError as error:
        what = error.message.removesuffix(".").replace("parameter 'value' was given ", "")
        raise refused(where, f"the value is {what}", error.hint or f"Give {type_}.") from None
    assert found is not None
    assert not isinstance(found, tuple)
    return found


def is_phrase(value: Operand, kind: str) -> bool:
    """Whether a value of a moment's kind means another one on another day."""
    type_ = TYPES.get(kind)
    if not isinstance(value, str) or type_ not in _MOMENTS:
        return False
    made = Parameter("value", type_)
    try:
        return made.read(value, SOME_DAY) != made.read(value, _OTHER_DAY)
    except LadleError:
        return False


def period(value: str, where: str) -> tuple[date, date] | None:
    """First and last day of a period; None for one that is relative to the data date. Raises BadInput for what is none."""
    made = Parameter("value", "period")
    try:
        found, other = made.read(value, SOME_DAY), made.read(value, _OTHER_DAY)
    except LadleError as error:
        what = error.message.removesuffix(".").replace("parameter 'value' was given ", "")
        raise refused(where, f"the period is {what}", error.hint or "Say one such as last month.") from None
    if found != other:
        return None
    assert isinstance(found, tuple)
    first, last = found
    assert isinstance(first, date)
    assert isinstance(last, date)
    return first, last


def day_after(day: date) -> date:
    """The next one; the last day there is stays."""
    return day if day == date.max else day + timedelta(days=1)


def _type_of(value: object) -> str:
    if isinstance(value, bool):
        return "boolean"
    return "integer" if isinstance(value, int) else "decimal" if isinstance(value, (float, Decimal)) else "text"
