"""A statement taken out with its values filled in, to run in any SQL editor, and brought back with its parameters in place.

Each value stands between two comments, ``/* :since */ '2026-11-01'::date /* : */``: whatever happens to the text around
them, and to the value itself, bringing it back puts ``:since`` there again.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime, timezone
from decimal import Decimal

from ..errors import BadInput
from ..values.parameters import MASK, BoundValues, Parameter, Scalar, Value, as_text
from .dialects import DUCKDB, POSTGRESQL, Dialect
from .scanner import Part, Rendered, parameter_names, place, replace_parameters, scan, statements

_OPENS = re.compile(r"/\*\s*:([a-z_][a-z0-9_]*)\s*\*/")
_CLOSES = re.compile(r"/\*\s*:\s*\*/")


def _string(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def zoned_cast(value: Value) -> str:
    """``timestamptz`` for moments with a zone, which stay the moments they are; empty for other values."""
    sample = value[0] if isinstance(value, tuple) and value else value
    return "timestamptz" if isinstance(sample, datetime) and sample.tzinfo is not None else ""


def _postgresql(parameter: Parameter, value: Value) -> str:
    name = POSTGRESQL.casts.get(parameter.type) or zoned_cast(value) or "timestamp"
    if isinstance(value, tuple):
        return f"array[{', '.join(_string(str(as_text(item))) for item in value)}]::{name}[]"
    return f"null::{name}" if value is None else f"{_string(str(as_text(value)))}::{name}"


def _duckdb(parameter: Parameter, value: Value) -> str:
    name = zoned_cast(value) or DUCKDB.casts[parameter.type]
    if isinstance(value, tuple):
        return f"[{', '.join(_string(str(as_text(item))) for item in value)}]::{name}[]"
    return f"null::{name}" if value is None else f"{_string(str(as_text(value)))}::{name}"


def _utc(value: Scalar) -> Scalar:
    """SQLite's timestamps have no zone: a zoned moment is given as UTC."""
    return value.astimezone(timezone.utc).replace(tzinfo=None) if isinstance(value, datetime) and value.tzinfo else value


def _mariadb(parameter: Parameter, value: Value) -> str:
    if isinstance(value, tuple):
        return f"({', '.join(_mariadb(parameter, item) for item in value)})" if value else "(null)"
    if value is None:
        return "null"
    if isinstance(value, bool | int | Decimal):
        return str(as_text(value))
    if isinstance(value, datetime) and value.tzinfo:
        return f"from_unixtime({format(Decimal(str(value.timestamp())), 'f')})"  # in whatever zone the session is
    if isinstance(value, datetime):
        return f"timestamp{_string(str(as_text(value)))}"
    return f"date'{value.isoformat()}'" if isinstance(value, date) else _string(value.replace("\\", "\\\\"))


def _sqlite_item(value: Scalar) -> str | int | float:
    if isinstance(value, bool):
        return int(value)
    if isinstance(value, Decimal):
        return int(value) if value == value.to_integral_value() and abs(value) < 2**63 else float(value)
    return value if isinstance(value, int) else str(as_text(_utc(value)))


def _sqlite(parameter: Parameter, value: Value) -> str:
    if isinstance(value, tuple):
        items = json.dumps([_sqlite_item(item) for item in value], ensure_ascii=False)
        return f"(select value from json_each({_string(items)}))"
    if value is None:
        return "null"
    made = _sqlite_item(value)
    return _string(made) if isinstance(made, str) else repr(made)


_LITERALS: dict[str, Callable[[Parameter, Value], str]] = {
    "postgresql": _postgresql, "duckdb": _duckdb, "mariadb": _mariadb, "sqlite": _sqlite,
}  # fmt: skip


def fill_in(text: str, dialect: Dialect, bound: BoundValues) -> Rendered:
    """The text with each value as the dialect writes it, between its two comments; sensitive ones masked.

    Raises BadInput for a name that no value was given for.
    """

    def put(name: str) -> str:
        if name not in bound.parameters:
            raise BadInput(f"the statement uses ':{name}', which is not declared.", "Declare the parameter.")
        parameter, value = bound.parameters[name], bound.values[name]
        if parameter.type == "identifier":
            literal = dialect.quoted_path(str(value))
        elif parameter.sensitive and value is not None:
            literal = _string(MASK)
        else:
            literal = _LITERALS[dialect.name](parameter, value)
        return f"/* :{name} */ {literal} /* : */"

    filled = replace_parameters(text, dialect, put)
    _refuse_another_reading(text, filled, dialect)
    return filled


@dataclass(frozen=True, slots=True)
class FilledPart:
    """One statement of a text: title, text, the names it uses, and its text with the values filled in."""

    title: str
    text: str
    names: list[str]
    filled_in: str


def filled_parts(text: str, dialect: Dialect, bound: BoundValues) -> tuple[list[Part], list[FilledPart]]:
    """A text's statements, and what each is with its values. Raises StatementRefused, BadInput."""
    parts = statements(text, dialect)
    made = []
    for part in parts:
        own = text[part.start : part.end].strip()
        made.append(FilledPart(part.title, own, parameter_names(own, dialect), fill_in(own, dialect, bound).text))
    return parts, made


def _refuse_another_reading(text: str, filled: Rendered, dialect: Dialect) -> None:
    """With its values in place the text must fall into the same parts as before, each value into parts of its own."""
    spans = {start: start + length for start, length, _, _ in filled.spans}
    kinds, within = [], -1
    for token in scan(filled.text, dialect):
        if token.start in spans:
            kinds.append("parameter")
            within = spans[token.start]
        elif token.start >= within and token.kind != "text":
            kinds.append(token.kind)
    if kinds != [token.kind for token in scan(text, dialect) if token.kind != "text"]:
        raise BadInput(
            "with its values filled in, the statement would be read in another way.",
            "Put spaces around its parameters, and write the strings beside them in a plainer way.",
        )


def restore_parameters(text: str, dialect: Dialect) -> str:
    """The text with its parameters in place again. Raises BadInput, with line and column, for a mark without its other."""
    out: list[str] = []
    at = 0
    opened: tuple[str, int] | None = None
    for token in scan(text, dialect):
        if token.kind != "comment":
            continue
        piece = text[token.start : token.end]
        opens, closes = _OPENS.fullmatch(piece), _CLOSES.fullmatch(piece)
        if (opens and opened) or (closes and not opened):
            raise _unpaired(text, token.start, piece)
        if opens:
            out.append(text[at : token.start])
            opened = (opens.group(1), token.start)
        elif closes and opened:
            out.append(f":{opened[0]}")
            at, opened = token.end, None
    if opened:
        raise _unpaired(text, opened[1], f"/* :{opened[0]} */")
    return "".join([*out, text[at:]])


def _unpaired(text: str, position: int, piece: str) -> BadInput:
    line, column = place(text, position)
    return BadInput(
        f"the mark {piece} at line {line}, column {column} has no other that belongs to it.",
        "Put the value back between its two comments, or write the parameter there yourself.",
        line=line,
        column=column,
    )
