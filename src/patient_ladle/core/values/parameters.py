"""Typed parameters: what an extract declares, and the values one run uses.

Dates and timestamps may be given as date phrases (core.values.date_phrases), resolved against the run's data date. A period is
a pair of dates and is bound as two, ``:name_from`` and ``:name_to``. An identifier is the name of a table, column or
schema out of an allowed set, and stands in the statement quoted.

A value travels as plain JSON (text, number, true or false, a list of these) until ``resolve`` makes it a Python value of
the declared type; ``as_text`` gives the canonical text back for records and descriptors.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from decimal import Decimal, InvalidOperation
from itertools import chain
from typing import Any, NoReturn

import pyarrow as pa
import pyarrow.compute as pc

from ..errors import (
    BadInput,
    LadleError,
    ValueMissing,
    ValueWrong,
    from_dict,
    general_words,
    names_a_value,
    nearest,
    unknown_name,
)
from ..keepable import unfit
from .date_phrases import date_of, read_period, timestamp_of

Scalar = str | int | Decimal | bool | date | datetime
Value = Scalar | tuple[Scalar, ...] | None
Plain = Any
"""JSON: text, number, boolean, null, or a list of these."""

TYPES: dict[str, str] = {
    "text": "any text",
    "integer": "a whole number such as 42",
    "decimal": "a number such as 12.5",
    "boolean": "true or false",
    "date": "a date such as 2026-11-24, or a phrase such as start of last month",
    "timestamp": "a date and time such as 2026-11-24 06:05, or a phrase such as today at 06:05",
    "period": "two dates such as 2026-11-01 to 2026-11-30, or a phrase such as last month",
    "identifier": "a name out of the allowed ones",
}
"""Type name to what a right value looks like, in the words of the error message."""
DATED = ("date", "timestamp")
BOUNDED = ("integer", "decimal", *DATED)
MASK = "(sensitive)"
"""Stands for the value of a sensitive parameter wherever values are shown or kept for reading."""
SOME_DAY = date(2024, 2, 29)
"""The data date that declarations are checked with."""

MAX_LIST_ITEMS = 10_000
_NAME = re.compile(r"[a-z_][a-z0-9_]{0,62}")
_INTEGER = re.compile(r"[+-]?[0-9]{1,40}")
_TRUE, _FALSE = ("true", "yes", "1"), ("false", "no", "0")


@dataclass(frozen=True, slots=True)
class Parameter:
    """One declared parameter. ``default``, ``allowed`` and the bounds are plain JSON values of the declared type."""

    name: str
    type: str = "text"
    is_list: bool = False
    required: bool = True
    default: Plain = None
    allowed: tuple[Plain, ...] = ()
    note: str = ""
    labels: Mapping[str, str] = field(default_factory=dict)
    """Words for a person, by the canonical text of an allowed value."""
    choices: Mapping[str, str] = field(default_factory=dict)
    """``source`` and ``statement`` of a query that proposes values: its first column, labelled by its second."""
    lookup: Mapping[str, str] = field(default_factory=dict)
    """``name`` of the lookup that its allowed values are in, their ``column`` (else its key) and a ``label`` with words for
    them. Here they are not checked: whoever has the lookup makes them ``allowed`` (core.steps.lookups.allowing)."""
    minimum: Plain = None
    maximum: Plain = None
    pattern: str = ""
    """A regular expression (RE2) that a text must match as a whole."""
    sensitive: bool = False
    shared: str = ""
    """Name of the shared value that is the default."""

    @classmethod
    def from_dict(cls, data: Mapping[str, Any]) -> Parameter:
        """Build and check one declaration; raises BadInput with the field at fault."""
        known = set(cls.__slots__)
        for key in data:
            if key not in known:
                raise unknown_name("field of a parameter", str(key), known)
        _check_shapes(data)
        given = {key: value for key, value in data.items() if value is not None or key not in _OBJECTS}
        made = cls(**{**given, "allowed": tuple(data.get("allowed") or ())})
        made.check()
        return made

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON, the form that is stored and sent; a revision that is older than lookups differs in nothing from one that
        names none."""
        made = {name: getattr(self, name) for name in self.__slots__ if name != "lookup" or self.lookup}
        return made | {"allowed": list(self.allowed)} | {name: dict(made[name]) for name in _OBJECTS if name in made}

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
        self._check_fields()
        for item in self.allowed:
            _scalar(self, item, SOME_DAY)
        if self.default is not None:
            self.read(self.default, SOME_DAY)

    def _check_fields(self) -> None:
        """What does not go together with the type."""
        if self.is_list and self.type in ("period", "identifier"):
            self._refuse(f"a {self.type} takes one value", "Leave out is_list.")
        if self.type == "identifier" and not self.allowed:
            self._refuse("an identifier needs its allowed names", "List the names that may stand there.")
        if self.type == "identifier" and not self.required and self.default is None:
            self._refuse("an identifier cannot be null", "Make it required, or give it a default.")
        if (self.minimum is not None or self.maximum is not None) and self.type not in BOUNDED:
            self._refuse(f"a {self.type} has no bounds", f"Bounds are for {', '.join(BOUNDED)}.")
        if self.choices and set(self.choices) != {"source", "statement"}:
            self._refuse("choices need a source and a statement", "Give both, or list the allowed values.")
        self._check_lookup()
        if self.pattern and self.type != "text":
            self._refuse(f"a {self.type} has no pattern", "A pattern is for text.")
        try:
            _matches("", self.pattern)
        except pa.ArrowInvalid as error:
            self._refuse(f"the pattern '{self.pattern}' cannot be read: {str(error).splitlines()[0]}", "Correct the pattern.")
        for bound in (self.minimum, self.maximum):
            if bound is not None:
                _scalar(self, bound, SOME_DAY)

    def _check_lookup(self) -> None:
        if not self.lookup:
            return
        if not self.lookup.get("name") or set(self.lookup) - {"name", "column", "label"}:
            self._refuse(
                "its lookup needs a name", 'Write {"name": …}, and "column" and "label" where they are not the key alone.'
            )
        if self.type in ("period", "identifier", "boolean"):
            self._refuse(
                f"the values of a {self.type} are not those of a lookup", "List the allowed values, or change the type."
            )
        if self.allowed or self.labels or self.choices:
            self._refuse("its allowed values are those of a lookup and given besides", "Leave out the one or the other.")

    def _refuse(self, what: str, hint: str) -> NoReturn:
        raise BadInput(f"parameter '{self.name}': {what}.", hint, parameter=self.name)

    def shown(self, given: Plain) -> str:
        """The given value as an error may show it."""
        if self.sensitive:
            return MASK
        return given if isinstance(given, str) else type(given).__name__ if isinstance(given, dict) else repr(given)

    def parts(self) -> list[Parameter]:
        """The parameters that are bound: of a period its two ends, else itself."""
        if self.type != "period":
            return [self]
        return [replace(self, name=f"{self.name}_{end}", type="date", default=None, allowed=()) for end in ("from", "to")]

    def read(self, given: Plain, today: date) -> Value:
        """The given plain value in the declared type; a period gives a pair. Raises ValueWrong."""
        if self.type == "period":
            return _pair(self, given, today)
        if not self.is_list:
            if isinstance(given, (list, tuple)):
                raise ValueWrong(
                    f"parameter '{self.name}' takes one value and was given {len(given)}.",
                    'Give one value, or declare the parameter as a list: "is_list": true.',
                    parameter=self.name,
                )
            return self._fitting(_scalar(self, given, today), today)
        items = given if isinstance(given, (list, tuple)) else [given]
        if len(items) > MAX_LIST_ITEMS:
            raise ValueWrong(
                f"parameter '{self.name}' was given {len(items):,} values; at most {MAX_LIST_ITEMS:,} are taken.",
                "Put them into a table of the source and join it.",
                parameter=self.name,
            )
        allowed = self._allowed_values(today)
        return tuple(self._fitting(_scalar(self, item, today), today, allowed) for item in items)

    def _allowed_values(self, today: date) -> frozenset[Scalar]:
        return frozenset(_scalar(self, item, today) for item in self.allowed)

    def _fitting(self, value: Scalar, today: date, allowed: frozenset[Scalar] | None = None) -> Scalar:
        if self.allowed:
            choices = allowed if allowed is not None else self._allowed_values(today)
            if value not in choices:
                words = [str(as_text(_scalar(self, item, today))) for item in self.allowed]
                close = None if self.sensitive else nearest(str(as_text(value)), words, 0.75)
                listed = f"Allowed: {', '.join(words[:12])}{', …' if len(words) > 12 else ''}."
                raise ValueWrong(
                    f"parameter '{self.name}' was given '{self.shown(as_text(value))}', which is not among its allowed values.",
                    f"Did you mean '{close}'? {listed}" if close else listed,
                    parameter=self.name,
                )
        for bound, sign, word in ((self.minimum, -1, "at least"), (self.maximum, 1, "at most")):
            if bound is not None and _order(value, _scalar(self, bound, today)) == sign:
                raise ValueWrong(
                    f"parameter '{self.name}' was given '{self.shown(as_text(value))}'; it takes {word} {bound}.",
                    f"Give {word} {bound}.",
                    parameter=self.name,
                )
        if self.pattern and not _matches(str(value), self.pattern):
            raise ValueWrong(
                f"parameter '{self.name}' was given '{self.shown(as_text(value))}', which does not match {self.pattern}.",
                self.note or "Give a value of that form.",
                parameter=self.name,
            )
        return value


_SHAPES: dict[str, tuple[type, str]] = {
    "name": (str, "a text"), "type": (str, "a text"), "is_list": (bool, "true or false"), "required": (bool, "true or false"),
    "note": (str, "a text"), "pattern": (str, "a text"), "sensitive": (bool, "true or false"), "shared": (str, "a text"),
    "allowed": (list, "a list of values"), "labels": (dict, "an object of texts"), "choices": (dict, "an object of texts"),
    "lookup": (dict, "an object of texts"),
}  # fmt: skip
_OBJECTS = ("labels", "choices", "lookup")
_PLAIN_VALUES = (str, int, float)
_MOST_CHARACTERS = 10_000
"""Of one text of a declaration; and so many members of its lists."""


def _check_shapes(data: Mapping[str, Any]) -> None:
    """Each field of a declaration has the form that its use takes for granted. Raises BadInput."""
    if "name" not in data:
        raise BadInput("a parameter has no name.", "Give each parameter a name.")
    for field_name, wanted in chain(_misshapen(data), _misfilled(data)):  # one after the other: the second trusts the first
        name = data["name"][:64] if isinstance(data["name"], str) else ""
        raise BadInput(f"parameter '{name}': its '{field_name}' is not {wanted}.", f"Give {wanted}.", parameter=name)


def _misshapen(data: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """Fields that are of another type, or too long, and what they should be."""
    for field_name, (kind, wanted) in _SHAPES.items():
        given = data.get(field_name)
        if given is None and field_name in data and field_name not in ("allowed", *_OBJECTS):
            yield field_name, wanted
        if given is not None and not isinstance(given, (kind, tuple) if kind is list else kind):
            yield field_name, wanted
        if isinstance(given, (str, list, dict)) and len(given) > _MOST_CHARACTERS:
            yield field_name, f"{wanted} of at most {_MOST_CHARACTERS:,}"


def _misfilled(data: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """Fields of the right type that hold what they should not."""
    if any(not isinstance(item, _PLAIN_VALUES) for item in data.get("allowed") or ()):
        yield "allowed", "a list of texts and numbers"
    for field_name in _OBJECTS:
        if any(not isinstance(text, str) for pair in (data.get(field_name) or {}).items() for text in pair):
            yield field_name, "an object of texts"
    for field_name in ("minimum", "maximum"):
        if data.get(field_name) is not None and not isinstance(data[field_name], _PLAIN_VALUES):
            yield field_name, "a number or a date"


DATA_DATE = Parameter("data_date", "date", note="The date this run is about.")
DUE_TIME = Parameter("due_time", "timestamp", note="The moment this run was due, in UTC.")
BUILT_IN = {"data_date": DATA_DATE, "due_time": DUE_TIME}


def _matches(text: str, pattern: str) -> bool:
    """By RE2, whose time grows with the text only, whatever the pattern."""
    return not pattern or bool(pc.match_substring_regex(pa.array([text]), f"^(?:{pattern})$")[0].as_py())


def _order(value: Any, bound: Any) -> int:
    """-1, 0 or 1; timestamps with and without a zone compare by the clock that they show."""
    if isinstance(value, datetime):
        value, bound = value.replace(tzinfo=None), bound.replace(tzinfo=None)
    return int(value > bound) - int(value < bound)


def _wrong(parameter: Parameter, given: Plain, hint: str = "") -> ValueWrong:
    return ValueWrong(
        f"parameter '{parameter.name}' was given '{parameter.shown(given)}', which is not {TYPES[parameter.type]}.",
        hint or f"Give {TYPES[parameter.type]}.",
        parameter=parameter.name,
        type=parameter.type,
    )


def _pair(parameter: Parameter, given: Plain, today: date) -> tuple[Scalar, ...]:
    if isinstance(given, Mapping):
        given = [given.get("from"), given.get("to")]
    try:
        if isinstance(given, str):
            first, last = read_period(given, today)
        elif isinstance(given, (list, tuple)) and len(given) == 2:
            first, last = (date_of(str(item), today) for item in given)
        else:
            raise _wrong(parameter, given)
    except ValueWrong:
        raise
    except BadInput as error:
        raise _wrong(parameter, given, "" if parameter.sensitive else error.hint) from None
    if first > last:
        raise ValueWrong(
            f"parameter '{parameter.name}' was given a period that ends on {last}, before it begins on {first}.",
            "Give the earlier date first.",
            parameter=parameter.name,
        )
    return first, last


def _scalar(parameter: Parameter, given: Plain, today: date) -> Scalar:
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
    if kind in ("text", "identifier"):
        text = str(given)
        if found := unfit(text):
            raise ValueWrong(f"parameter '{parameter.name}' holds {found[1]}.", "Remove it.")
        return text
    text = str(given).strip()
    return _dated(parameter, text, today) if kind in DATED else _number(parameter, text)


def _number(parameter: Parameter, text: str) -> int | Decimal:
    if parameter.type == "integer" and _INTEGER.fullmatch(text):
        return int(text)
    with suppress(InvalidOperation):
        if parameter.type == "decimal" and (number := Decimal(text.replace("_", "x"))).is_finite():
            return number
    raise _wrong(parameter, text)


def _dated(parameter: Parameter, text: str, today: date) -> date | datetime:
    """ISO 8601, else a date phrase; a phrase that is nearly right is answered with the right one."""
    try:
        return date.fromisoformat(text) if parameter.type == "date" else datetime.fromisoformat(text)
    except ValueError:
        pass
    try:
        return date_of(text, today) if parameter.type == "date" else timestamp_of(text, today)
    except BadInput as error:
        phrased = not parameter.sensitive and len(text.split()) > 1
        raise _wrong(parameter, text, error.in_words() if phrased else "") from None


def as_text(value: Value) -> Plain:
    """The canonical text of a value (of a list a list of texts, None for null)."""
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


def masked(declared: Iterable[Parameter], values: Mapping[str, Any]) -> dict[str, Any]:
    """Values as they were given, with sensitive ones masked."""
    sensitive = {parameter.name for parameter in declared if parameter.sensitive}
    return {name: MASK if name in sensitive else value for name, value in values.items()}


_STAND_INS: Mapping[str, Scalar] = {
    "text": "…", "integer": 0, "decimal": Decimal(0), "boolean": False, "date": SOME_DAY,
    "timestamp": datetime(SOME_DAY.year, SOME_DAY.month, SOME_DAY.day),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class BoundValues:
    """The values in effect for one run, by parameter name, with their declarations."""

    parameters: Mapping[str, Parameter] = field(default_factory=dict)
    values: Mapping[str, Value] = field(default_factory=dict)

    def as_text(self) -> dict[str, Plain]:
        """Canonical texts, for records and descriptors; sensitive ones masked."""
        return {
            name: MASK if value is not None and self.parameters[name].sensitive else as_text(value)
            for name, value in self.values.items()
        }

    def handed(self, name: str) -> Plain:
        """The value of a parameter as it is given to another one; of a period both its days. None where it is null."""
        if name in self.values:
            return as_text(self.values[name])
        ends = [as_text(self.values[f"{name}_{end}"]) for end in ("from", "to")]
        return None if None in ends else {"from": ends[0], "to": ends[1]}

    def with_stand_ins(self) -> BoundValues:
        """The same with a value of no meaning in place of each sensitive one: for what tells values, as a plan does."""

        def stand_in(parameter: Parameter, value: Value) -> Value:
            if value is None or not parameter.sensitive or parameter.type == "identifier":
                return value
            plain = _STAND_INS[parameter.type]
            return (plain,) * len(value) if isinstance(value, tuple) else plain

        return BoundValues(self.parameters, {n: stand_in(self.parameters[n], value) for n, value in self.values.items()})

    def without_private(self, error: LadleError) -> LadleError:
        """The error as it may be shown and kept: where sensitive values are bound, without the database's own words."""
        hidden = {
            str(text)
            for name, value in self.values.items()
            if value is not None and self.parameters[name].sensitive
            for text in (as_text(value) if isinstance(value, tuple) else [as_text(value)])
        }
        if hidden and names_a_value(error.code):
            words = general_words(error.code, error.to_dict())
            where = {key: error.facts[key] for key in ("line", "column") if key in error.facts}
            at = f" (line {where['line']}, column {where['column']})" if len(where) == 2 else ""
            hint = "The database's own words are not shown: they may hold a sensitive value, as given or changed."
            return from_dict(
                {"code": error.code, "message": words["message"].rstrip(".") + at + ".", "hint": hint, "facts": where}
            )
        plain = error.to_dict()
        for text in sorted((each for each in hidden if each), key=len, reverse=True):
            plain["message"], plain["hint"] = (plain[key].replace(text, MASK) for key in ("message", "hint"))
        return from_dict(plain)


def resolve(
    declared: Sequence[Parameter],
    given: Mapping[str, Plain],
    data_date: date,
    due_time: datetime,
    shared: Mapping[str, Plain] | None = None,
) -> BoundValues:
    """Values for one run: given, else the shared value, else the default, else null when not required.

    Raises UnknownName for a name nobody declared, ValueMissing and ValueWrong.
    """
    by_name = {parameter.name: parameter for parameter in declared}
    for name in given:
        if name in BUILT_IN:
            raise BadInput(f"'{name}' is built in and is not set as a value.", "Use the data date of the run instead.")
        if name not in by_name:
            raise unknown_name("parameter", name, by_name, "This extract has no parameters.")
    values: dict[str, Value] = {}
    parts: dict[str, Parameter] = {}
    for name, parameter in by_name.items():
        plain = plain_value(parameter, given, shared or {})
        if plain is None and parameter.required:
            raise ValueMissing(
                f"parameter '{name}' needs a value ({TYPES[parameter.type]}).",
                f"Give one: {name}=…"
                + (f", or set the shared value '{parameter.shared}' for this environment." if parameter.shared else ""),
                parameter=name,
                type=parameter.type,
            )
        found = None if plain is None else parameter.read(plain, data_date)
        ends = parameter.parts()
        for number, part in enumerate(ends):
            parts[part.name] = part
            values[part.name] = found[number] if len(ends) > 1 and isinstance(found, tuple) else found
    values |= {"data_date": data_date, "due_time": due_time}
    return BoundValues({**parts, **BUILT_IN}, values)


def samples(declared: Sequence[Parameter]) -> BoundValues:
    """Values to understand a statement with, when nobody has given any: null, an empty list, an allowed name."""
    parts = {part.name: part for parameter in declared for part in parameter.parts()} | dict(BUILT_IN)
    values: dict[str, Value] = {name: () if part.is_list else None for name, part in parts.items()}
    values |= {name: str(part.default or part.allowed[0]) for name, part in parts.items() if part.type == "identifier"}
    return BoundValues(parts, values)


def plain_value(parameter: Parameter, given: Mapping[str, Plain], shared: Mapping[str, Plain]) -> Plain:
    """What stands for a parameter before it is read: given, shared or default; None where there is nothing."""
    plain = given.get(parameter.name)
    if plain is None and parameter.shared:
        plain = shared.get(parameter.shared)
    return parameter.default if plain is None else plain


def bound_names(declared: Iterable[Parameter]) -> list[str]:
    """The names by which a statement may use them, and those that are built in."""
    return [part.name for parameter in declared for part in parameter.parts()] + list(BUILT_IN)


def check_declared(declared: Sequence[Parameter], used: Iterable[str]) -> None:
    """Every name used is declared or built in, and no name is declared twice. Raises BadInput."""
    names = [part.name for parameter in declared for part in parameter.parts()]
    for name in names:
        if names.count(name) > 1:
            raise BadInput(f"parameter '{name}' is declared twice.", "Remove one of the two.")
    for name in used:
        if name not in names and name not in BUILT_IN:
            error = unknown_name("declared parameter", name, [*names, *BUILT_IN])
            raise BadInput(f"the statement uses ':{name}', which is not declared.", error.hint, parameter=name)
