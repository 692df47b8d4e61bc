"""Which columns of a result go into its files, in which order, under which names, as which types (mapping before writing)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ..errors import BadInput, StatementWrong, ValueUnfit, unknown_name
from ..results.columns import Batch, Column
from .formats.base import any_true, chosen, first_true
from .formats.styles import NUMBER_FORM, checked_form, local_texts, takes_form

_DATE = r"[0-9]{4}-[0-9]{2}-[0-9]{2}"
_CLOCK = r"[0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]+)?)?"
TYPES = {
    "text": r"(?s).*",
    "integer": r"-?(0|[1-9][0-9]*)(\.0+)?",
    "decimal": r"-?(0|[1-9][0-9]*)(\.[0-9]+)?",
    "float": r"-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?|NaN|-?Infinity",
    "boolean": r"(?i)true|false|t|f|yes|no|1|0",
    "date": _DATE + "([ T]" + _CLOCK + ")?",
    "timestamp": _DATE + "([ T]" + _CLOCK + ")?",
}
"""Types that a column may be given, and how its canonical text must look for that (RE2, whole value)."""


@dataclass(frozen=True, slots=True)
class ColumnChoice:
    """One column of the files: the statement's ``name``, and what is to be different about it."""

    name: str
    as_name: str = ""
    type: str = ""
    pattern: str = ""

    @classmethod
    def from_dict(cls, data: Any) -> ColumnChoice:
        """From plain JSON. Raises BadInput."""
        if isinstance(data, str):
            data = {"name": data}
        if not isinstance(data, Mapping) or not isinstance(data.get("name"), str) or not data["name"]:
            raise BadInput(f"{data!r} is not a choice of a column.", 'Give {"name": …}, with as, type or pattern where wanted.')
        known = ("name", "as", "type", "pattern")
        for key, value in data.items():
            if key not in known:
                raise unknown_name("field of a column's choice", str(key), known)
            if not isinstance(value, str):
                raise BadInput(f"{key} of column '{data['name']}' is a text, not {value!r}.", "Put it in quotes.")
        made = cls(data["name"], data.get("as", ""), data.get("type", ""), data.get("pattern", ""))
        if made.type and made.type not in TYPES:
            raise unknown_name("type of a column", made.type, TYPES)
        if made.pattern and not NUMBER_FORM.fullmatch(made.pattern):
            try:
                checked_form(made.pattern, made.type if made.type in ("date", "timestamp") else "zoned")
            except BadInput as error:
                raise BadInput(f"pattern of column '{made.name}': {error.message}", error.hint) from error
        return made

    def to_dict(self) -> dict[str, str]:
        """Plain JSON, without what is not set."""
        found = {"name": self.name, "as": self.as_name, "type": self.type, "pattern": self.pattern}
        return {key: value for key, value in found.items() if value}


def checked_choices(given: Sequence[Any]) -> tuple[ColumnChoice, ...]:
    """Raises BadInput, also for a name that two columns would have."""
    choices = tuple(ColumnChoice.from_dict(item) for item in given)
    taken: set[str] = set()
    for choice in choices:
        name = (choice.as_name or choice.name).lower()
        if name in taken:
            raise BadInput(f"two columns would be named '{choice.as_name or choice.name}'.", "Rename one with as.")
        taken.add(name)
    return choices


class Shape:
    """The choices, met with the columns that a statement has."""

    def __init__(self, choices: Sequence[ColumnChoice], columns: Sequence[Column]) -> None:
        """Raises StatementWrong where a chosen column is not there."""
        places = {column.name: number for number, column in enumerate(columns)}
        for choice in choices:
            if choice.name not in places:
                found = unknown_name("column of the result", choice.name, places)
                raise StatementWrong(found.message, found.hint + " The output's choice of columns names it.")
        self.places = [places[choice.name] for choice in choices]
        self.casts = [choice.type for choice in choices]
        self.columns = [
            replace(
                columns[places[c.name]],
                name=c.as_name or c.name,
                kind=c.type or columns[places[c.name]].kind,
                pattern=c.pattern,
            )
            for c in choices
        ]
        self.before = [columns[place] for place in self.places]
        self.warnings = [
            f"column '{column.name}' is of kind {column.kind}, to which its pattern {column.pattern} does not apply"
            for column in self.columns
            if not takes_form(column)
        ]
        self.minds_zone = any(
            cast in ("date", "timestamp") and b.kind == "zoned" for cast, b in zip(self.casts, self.before, strict=True)
        )
        self.same = self.places == list(range(len(columns))) and not any(self.casts)

    def batch(self, batch: Batch, rows: int, zone: str = "UTC") -> Batch:
        """The batch in that shape. ``rows``: those before it; ``zone``: where zoned moments are to lose their zone.

        Raises ValueUnfit naming row, column and value.
        """
        if self.same:
            return batch
        cells, numbers = [], []
        for place, cast, column, before in zip(self.places, self.casts, self.columns, self.before, strict=True):
            array, mask = batch.cells[place], batch.numbers[place]
            if cast and cast != before.kind:
                if before.kind == "zoned" and cast in ("date", "timestamp"):
                    array = local_texts(array, zone)
                array, mask = _cast(array, cast, column, before, rows), None
            cells.append(array)
            numbers.append(mask)
        return Batch(cells, numbers, batch.rows)


def _cast(array: pa.Array[Any], cast: str, column: Column, before: Column, rows: int) -> pa.Array[Any]:
    if cast == "text" or (cast in ("decimal", "float") and before.kind == "integer"):
        return array
    bad = pc.invert(pc.match_substring_regex(array, f"^(?:{TYPES[cast]})$"))
    if cast in ("date", "timestamp") and not any_true(bad):
        bad = _no_moments(array)
    if any_true(bad):
        at = first_true(bad)
        raise ValueUnfit(
            f"row {rows + at + 1:,}, column '{column.name}': {array[at].as_py()!r} is no {cast}.",
            "Leave the column's type as it is, or change the statement.",
            row=rows + at + 1,
            column=column.name,
        )
    match cast:
        case "integer":
            return pc.replace_substring_regex(array, r"\.0+$", "")
        case "boolean":
            return chosen(pc.match_substring_regex(array, "(?i)^(true|t|yes|1)$"), "true", "false")
        case "date":
            return pc.utf8_slice_codeunits(array, 0, 10)
        case "timestamp":
            whole = pc.replace_substring(array, "T", " ")
            whole = pc.replace_substring_regex(whole, r"^(\S{10})$", r"\1 00:00:00")
            return pc.replace_substring_regex(whole, r"^(\S{10} \d\d:\d\d)$", r"\1:00")
    return array


def _no_moments(array: pa.Array[Any]) -> pa.Array[Any]:
    """A mask of texts that look like moments and are none: the 30th of February, 25 o'clock, year 0."""
    plain = pc.replace_substring(pc.replace_substring_regex(array, r"\.\d+$", ""), "T", " ")
    bad = pc.starts_with(array, "0000")
    try:
        plain.cast(pa.timestamp("s"))
    except pa.ArrowInvalid:
        return pc.or_(bad, pa.array([not _is_moment(text) for text in plain.to_pylist()]))
    return bad


def _is_moment(text: str | None) -> bool:
    try:
        return text is None or bool(datetime.fromisoformat(text))
    except ValueError:
        return False
