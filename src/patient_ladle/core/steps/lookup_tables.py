"""Lookups as people give them: read from text that was pasted or a file, checked, edited by key, compared."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from typing import Any

from ..errors import BadInput, unknown_name
from ..results.columns import FORMULA_BEGINS, Column
from .lookups import TYPES, Lookup

MOST_ROWS = 100_000
MOST_COLUMNS = 50
MOST_CHARACTERS = 2_000
"""Of one value."""
_DATE = r"[0-9]{4}-[0-9]{2}-[0-9]{2}"
_FORMS = {
    "boolean": r"true|false",
    "integer": r"0|-?[1-9][0-9]{0,17}",
    "decimal": r"-?(0|[1-9][0-9]{0,19})(\.[0-9]{1,18})?",
    "date": _DATE,
    "timestamp": _DATE + r" [0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]{0,5}[1-9])?",
}
"""How every value must look, from the narrowest kind on; a number with zeros before it is a code, and so a text."""
_UNFIT = re.compile(r"[\0-\x08\x0b\x0c\x0e-\x1f\x7f\ud800-\udfff]")
Row = list[str | None]


def read_text(text: str) -> tuple[list[str], list[Row]]:
    """Names and rows of a table as text, its first line the names: pasted from a spreadsheet (tabs), or comma or semicolon
    between values. Nothing between two delimiters is null. Raises BadInput with the line."""
    lines = text.removeprefix("\ufeff")
    head = lines.partition("\n")[0]
    delimiter = max("\t;,", key=lambda each: (head.count(each), "\t;,".index(each) == 0))
    reader = csv.reader(io.StringIO(lines, newline=""), delimiter=delimiter, strict=True)
    try:
        read = [(reader.line_num, [cell or None for cell in row]) for row in reader if row]
    except csv.Error as error:
        raise BadInput(f"line {reader.line_num}: {error}.", "Close every quote, and write quotes inside twice.") from None
    if not read:
        raise BadInput("the table is empty.", "Give a first line with the names of the columns, then a line for each row.")
    names = [name or "" for name in read[0][1]]
    for number, row in read[1:]:
        if len(row) != len(names):
            raise BadInput(
                f"line {number} has {len(row)} values, where there are {len(names)} columns.",
                "Give each row as many values as there are names in the first line.", line=number,
            )  # fmt: skip
    return names, [row for _, row in read[1:]]


def made(
    name: str, names: Sequence[str], rows: Sequence[Sequence[Any]], kinds: Mapping[str, str], key: Sequence[str]
) -> Lookup:
    """A checked lookup. ``kinds``: of columns that are not to be what their values prove; ``key``: none: the first column.

    Raises BadInput with row and column.
    """
    _check_names(names)
    for each in (*kinds, *key):
        if each not in names:
            raise unknown_name(f"column of the lookup '{name}'", each, names)
    if len(rows) > MOST_ROWS:
        raise BadInput(f"there are {len(rows):,} rows, and at most {MOST_ROWS:,} are kept.", "Keep it in a table of a source.")
    texts = [[_text(cell, number, names[place]) for place, cell in enumerate(row)] for number, row in enumerate(rows, 1)]
    columns = []
    for place, each in enumerate(names):
        values = [row[place] for row in texts]
        kind = kinds.get(each) or proven_kind(values)
        _check_kind(kind, values, each)
        columns.append(Column(each, kind))
    found = Lookup(name, 0, tuple(columns), tuple(key or names[:1]), texts)
    _check_key(found)
    return found


def proven_kind(values: Iterable[str | None]) -> str:
    """The narrowest kind that every value is of; text where none is, or there are none."""
    given = [value for value in values if value is not None]
    return next((kind for kind in _FORMS if given and all(_is_of(kind, value) for value in given)), "text")


def _is_of(kind: str, value: str) -> bool:
    if kind in ("text", "float"):
        return kind == "text" or bool(re.fullmatch(r"-?[0-9]+(\.[0-9]+)?([eE][+-]?[0-9]+)?", value))
    if not re.fullmatch(_FORMS[kind], value):
        return False
    try:
        if kind == "date":
            date.fromisoformat(value)
        if kind == "timestamp":
            datetime.fromisoformat(value)
    except ValueError:
        return False
    return True


def _check_names(names: Sequence[str]) -> None:
    if len(names) > MOST_COLUMNS:
        raise BadInput(f"there are {len(names)} columns, and at most {MOST_COLUMNS} are kept.", "Leave some out.")
    lower = [name.lower() for name in names]
    for place, name in enumerate(names):
        if not name.strip() or len(name) > 100 or _UNFIT.search(name):
            raise BadInput(f"column {place + 1} has no name.", "Give each column one in the first line.")
        if name.lower() in lower[:place]:
            raise BadInput(f"two columns are called '{name}'.", "Give one another name.")


def _text(cell: Any, number: int, name: str) -> str | None:
    if cell is None or cell == "":
        return None
    text = str(cell).lower() if isinstance(cell, bool) else str(cell)
    if len(text) > MOST_CHARACTERS or _UNFIT.search(text):
        what = "is too long" if len(text) > MOST_CHARACTERS else "holds a control character"
        raise BadInput(f"row {number:,}, column '{name}': the value {what}.", "Correct it.", row=number, column=name)
    return text


def _check_kind(kind: str, values: Sequence[str | None], name: str) -> None:
    if kind not in TYPES:
        raise unknown_name("kind of a column", kind, TYPES)
    for number, value in enumerate(values, 1):
        if value is not None and not _is_of(kind, value):
            raise BadInput(
                f"row {number:,}, column '{name}': '{value[:60]}' is not a value of kind {kind}.",
                "Correct it, or let the column be text.", row=number, column=name,
            )  # fmt: skip


def _check_key(found: Lookup) -> None:
    places = found.places(found.key)
    first: dict[tuple[str | None, ...], int] = {}
    for number, row in enumerate(found.rows, 1):
        values = tuple(row[place] for place in places)
        shown = ", ".join(f"'{value}'" for value in values)
        if None in values:
            raise BadInput(f"row {number:,} has no value in its key ({', '.join(found.key)}).", "Give it one.", row=number)
        if values in first:
            raise BadInput(
                f"row {number:,} has the key {shown}, which row {first[values]:,} has too.",
                "Correct one of them, or let more columns be the key.", row=number,
            )  # fmt: skip
        first[values] = number


def edited(before: Lookup, put: Sequence[Mapping[str, Any]], removed: Sequence[Any]) -> Lookup:
    """With rows changed or added by their key, and others taken away. Raises BadInput for a key that is not there."""
    names = [column.name for column in before.columns]
    places = before.places(before.key)
    kept = {tuple(row[place] for place in places): list(row) for row in before.rows}
    for each in removed:
        key = tuple(str(value) for value in (each if isinstance(each, (list, tuple)) else [each]))
        if kept.pop(key, None) is None:
            raise BadInput(f"no row of '{before.name}' has the key {', '.join(key)}.", "Look at it: ladle lookup show.")
    for each in put:
        for name in each:
            if name not in names:
                raise unknown_name(f"column of the lookup '{before.name}'", str(name), names)
        if missing := [name for name in before.key if each.get(name) in (None, "")]:
            raise BadInput(f"a row has no value for {', '.join(missing)}, which is its key.", "Give it one.")
        key = tuple(str(each[name]) for name in before.key)
        row = kept.get(key, [None] * len(names))
        kept[key] = [_text(each[name], 0, name) if name in each else row[place] for place, name in enumerate(names)]
    kinds = {column.name: column.kind for column in before.columns}
    return replace(made(before.name, names, list(kept.values()), kinds, before.key), revision=before.revision)


@dataclass(frozen=True, slots=True)
class Differences:
    """Between two revisions. ``changed``: (key, before, after); rows are lists in the order of ``columns``."""

    columns: tuple[str, ...]
    added: tuple[Row, ...]
    removed: tuple[Row, ...]
    changed: tuple[tuple[Row, Row], ...]
    settings: tuple[str, ...]
    """Columns and key that differ, in words."""

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        changed = [{"before": before, "after": after} for before, after in self.changed]
        return {
            "columns": list(self.columns), "added": list(self.added), "removed": list(self.removed), "changed": changed,
            "settings": list(self.settings),
        }  # fmt: skip


def differences(before: Lookup, after: Lookup) -> Differences:
    """Rows by the key of the later one, in the columns that either has."""
    names = list(dict.fromkeys([c.name for c in after.columns] + [c.name for c in before.columns]))
    old, new = _by_key(before, names, after.key), _by_key(after, names, after.key)
    kinds = [{column.name: column.kind for column in each.columns} for each in (before, after)]
    told = [f"column '{n}' is new" for n in names if n not in kinds[0]]
    told += [f"column '{n}' is gone" for n in names if n not in kinds[1]]
    told += [
        f"column '{n}' was {kinds[0][n]} and is {kinds[1][n]}"
        for n in names
        if all(n in k for k in kinds) and kinds[0][n] != kinds[1][n]
    ]
    told += [f"the key was {', '.join(before.key)} and is {', '.join(after.key)}"] if before.key != after.key else []
    return Differences(
        tuple(names),
        tuple(row for key, row in new.items() if key not in old),
        tuple(row for key, row in old.items() if key not in new),
        tuple((row, new[key]) for key, row in old.items() if key in new and row != new[key]),
        tuple(told),
    )


def _by_key(lookup: Lookup, names: Sequence[str], key: Sequence[str]) -> dict[Any, Row]:
    own = [column.name for column in lookup.columns]
    rows = [[row[own.index(name)] if name in own else None for name in names] for row in lookup.rows]
    places = [names.index(name) for name in key]
    return {tuple(row[place] for place in places): row for row in rows}


def as_csv(lookup: Lookup, escape_formulas: bool = False) -> str:
    """Comma-separated text with the names first (RFC 4180); null is nothing between delimiters. An apostrophe stands before
    texts that a spreadsheet program takes for a formula, where they are to be escaped."""

    def safe(cell: str, kind: str = "text") -> str:
        return f"'{cell}" if escape_formulas and kind == "text" and cell.startswith(tuple(FORMULA_BEGINS)) else cell

    out = io.StringIO(newline="")
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow([safe(column.name) for column in lookup.columns])
    kinds = [column.kind for column in lookup.columns]
    writer.writerows(
        ["" if cell is None else safe(cell, kind) for cell, kind in zip(row, kinds, strict=True)] for row in lookup.rows
    )
    return out.getvalue()
