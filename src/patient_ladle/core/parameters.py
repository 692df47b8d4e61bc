"""Typed parameters: what an extract declares, and the values one run uses.

A value travels as plain JSON (text, number, true or false, a list of these) until ``resolve`` makes it a Python value
of the declared type; ``as_text`` gives the canonical text back for records and descriptors.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from decimal import Decimal, InvalidOperation
from typing import Any

from .errors import BadInput, ValueMissing, ValueWrong, nearest, unknown_name

Scalar = str | int | Decimal | bool | date | datetime
Value = Scalar | tuple[Scalar, ...] | None
Plain = Any
"""JSON: text, number, boolean, null, or a list of these."""

TYPES: dict[str, str] = {
    "text": "any text",
    "integer": "a whole number such as 42",
    "decimal": "a number such as 12.5",
    "boolean": "true or false",
    "date": "a date such as 2026-11-24",
    "timestamp": "a date and time such as 2026-11-24 06:05",
}
"""Type name to what a right value looks like, in the words of the error message."""

MAX_LIST_ITEMS = 10_000
_NAME = re.compile(r"[a-z_][a-z0-9_]{0,62}")
_INTEGER = re.compile(r"[+-]?\d{1,40}")
_TRUE, _FALSE = ("true", "yes", "1"), ("false", "no", "0")


@dataclass(frozen=True, slots=True)
class Parameter:
    """One declared parameter. ``default`` and ``allowed`` are plain JSON values of the declared type."""

    name: str
    type: str = "text"
    many: bool = False
    required: bool = True
    default: Plain = None
    allowed: tuple[Plain, ...] = ()
    note: str = ""

    @classmethod
    def from_dict(cls, data: Mapping[str, Any]) -> Parameter:
        """Build and check one declaration; raises BadInput with the field at fault."""
        known = set(cls.__slots__)
        for key in data:
            if key not in known:
                raise unknown_name("field of a parameter", str(key), known)
        made = cls(**{**dict(data), "allowed": tuple(data.get("allowed") or ())})
        made.check()
        return made

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON, the form that is stored and sent."""
        return {
            "name": self.name,
            "type": self.type,
            "many": self.many,
            "required": self.required,
            "default": self.default,
            "allowed": list(self.allowed),
            "note": self.note,
        }

    def check(self) -> None:
        """Refuse a declaration that could never be used."""
        if not isinstance(self.name, str) or not _NAME.fullmatch(self.name):
            raise BadInput(
                f"'{self.name}' cannot be the name of a parameter.",
                "Use small letters, digits and underscores, beginning with a letter; at most 63.",
            )
        if self.name in BUILT_IN:
            raise BadInput(
                f"the parameter ':{self.name}' is built in and cannot be declared.",
                "Use it in the statement as it is, or choose another name.",
            )
        if self.type not in TYPES:
            raise unknown_name("parameter type", str(self.type), TYPES)
        for item in self.allowed:
            _scalar(self, item)
        if self.default is not None:
            self.read(self.default)

    def read(self, given: Plain) -> Value:
        """The given plain value in the declared type. Raises ValueWrong."""
        if not self.many:
            if isinstance(given, (list, tuple)):
                raise ValueWrong(
                    f"parameter '{self.name}' takes one value and was given {len(given)}.",
                    "Give one value, or declare the parameter as taking many.",
                    parameter=self.name,
                )
            return self._allowed(_scalar(self, given))
        items = given if isinstance(given, (list, tuple)) else [given]
        if len(items) > MAX_LIST_ITEMS:
            raise ValueWrong(
                f"parameter '{self.name}' was given {len(items):,} values; at most {MAX_LIST_ITEMS:,} are taken.",
                "Put them into a table of the source and join it.",
                parameter=self.name,
            )
        return tuple(self._allowed(_scalar(self, item)) for item in items)

    def _allowed(self, value: Scalar) -> Scalar:
        if self.allowed:
            choices = [_scalar(self, item) for item in self.allowed]
            if value not in choices:
                words = [str(as_text(choice)) for choice in choices]
                close = nearest(str(as_text(value)), words)
                raise ValueWrong(
                    f"parameter '{self.name}' was given '{as_text(value)}', which is not among its allowed values.",
                    f"Did you mean '{close}'?" if close else f"Allowed: {', '.join(words[:12])}.",
                    parameter=self.name,
                )
        return value


DATA_DATE = Parameter("data_date", "date", note="The date this run is about.")
DUE_TIME = Parameter("due_time", "timestamp", note="The moment this run was due, in UTC.")
BUILT_IN = {"data_date": DATA_DATE, "due_time": DUE_TIME}


def _wrong(parameter: Parameter, given: Plain) -> ValueWrong:
    shown = given if isinstance(given, str) else type(given).__name__ if isinstance(given, dict) else repr(given)
    return ValueWrong(
        f"parameter '{parameter.name}' was given '{shown}', which is not {TYPES[parameter.type]}.",
        f"Give {TYPES[parameter.type]}.",
        parameter=parameter.name,
        type=parameter.type,
    )


def _scalar(parameter: Parameter, given: Plain) -> Scalar:
    if given is None or isinstance(given, (dict, list, tuple)):
        raise _wrong(parameter, given)
    kind = parameter.type
    if kind == "boolean":
        word = str(given).strip().lower()
        if word in _TRUE or word in _FALSE:
            return word in _TRUE
        raise _wrong(parameter, given)
    if isinstance(given, bool):
        raise _wrong(parameter, given)
    if kind == "text":
        text = str(given)
        if "\0" in text:
            raise ValueWrong(f"parameter '{parameter.name}' holds a NUL character.", "Remove it.")
        return text
    text = str(given).strip()
    try:
        if kind == "integer" and _INTEGER.fullmatch(text):
            return int(text)
        if kind == "decimal":
            number = Decimal(text.replace("_", "x"))
            if number.is_finite():
                return number
        if kind == "date":
            return date.fromisoformat(text)
        if kind == "timestamp":
            return datetime.fromisoformat(text)
    except (ValueError, InvalidOperation):
        pass
    raise _wrong(parameter, given)


def as_text(value: Value) -> Plain:
    """The canonical text of a value (a list of texts for many, None for absent)."""
    if value is None:
        return None
    if isinstance(value, tuple):
        return [as_text(item) for item in value]
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, datetime):
        return value.isoformat(sep=" ").replace("+00:00", "Z")
    return value.isoformat() if isinstance(value, date) else str(value)


@dataclass(frozen=True, slots=True)
class BoundValues:
    """The values in effect for one run, by parameter name, with their declarations."""

    parameters: Mapping[str, Parameter] = field(default_factory=dict)
    values: Mapping[str, Value] = field(default_factory=dict)

    def as_text(self) -> dict[str, Plain]:
        """Canonical texts, for records and descriptors."""
        return {name: as_text(value) for name, value in self.values.items()}


def resolve(declared: Sequence[Parameter], given: Mapping[str, Plain], data_date: date, due_time: datetime) -> BoundValues:
    """Values for one run: given, else default, else absent when not required.

    Raises UnknownName for a name nobody declared, ValueMissing and ValueWrong.
    """
    by_name = {parameter.name: parameter for parameter in declared}
    for name in given:
        if name in BUILT_IN:
            raise BadInput(f"'{name}' is built in and is not set as a value.", "Use the data date of the run instead.")
        if name not in by_name:
            raise unknown_name("parameter", name, by_name, "This extract has no parameters.")
    values: dict[str, Value] = {}
    for name, parameter in by_name.items():
        plain = given.get(name)
        plain = parameter.default if plain is None else plain
        if plain is None and parameter.required:
            raise ValueMissing(
                f"parameter '{name}' needs a value ({TYPES[parameter.type]}).",
                f"Give one: {name}=…",
                parameter=name,
                type=parameter.type,
            )
        values[name] = None if plain is None else parameter.read(plain)
    values |= {"data_date": data_date, "due_time": due_time}
    return BoundValues({**by_name, **BUILT_IN}, values)


def check_declared(declared: Sequence[Parameter], used: Iterable[str]) -> None:
    """Every name used is declared or built in, and no name is declared twice. Raises BadInput."""
    names = [parameter.name for parameter in declared]
    for name in names:
        if names.count(name) > 1:
            raise BadInput(f"parameter '{name}' is declared twice.", "Remove one of the two.")
    for name in used:
        if name not in names and name not in BUILT_IN:
            error = unknown_name("declared parameter", name, [*names, *BUILT_IN])
            raise BadInput(f"the statement uses ':{name}', which is not declared.", error.hint, parameter=name)
