"""Inputs of a combination as plain data: the result of another extract, or a lookup. JSON or TOML; ``schema()`` describes it.

A value of an input is a constant as that extract takes it, a parameter of the combination that is handed on
(``{"parameter": "month"}``), or a column of another input (``{"input": "districts", "column": "code"}``).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Annotated, Any

import msgspec
from msgspec import Meta

from ..errors import BadInput, nearest, unknown_name
from ..steps.declared import schema_of

MOST_INPUTS = 20
DEEPEST = 8
"""Combinations of combinations, the outermost counted."""
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]{0,62}")
_UNKNOWN = re.compile(r"unknown field `(?P<name>[^`]*)`")

Name = Annotated[str, Meta(min_length=1, max_length=200)]
Value = str | int | float | bool | list[str | int | float | bool] | dict[str, str] | None


class Input(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, kw_only=True):
    """What a combination's statement finds under a name: the result of an extract, or a lookup."""

    name: Annotated[str, Meta(description="The table's name in the statement: letters, digits and underscores.")]
    extract: Annotated[str, Meta(description="Whose result it is.")] = ""
    lookup: Annotated[str, Meta(description="Or the lookup that it is.")] = ""
    statement: Annotated[int, Meta(ge=1, description="Which statement of the extract, where it has several.")] = 1
    values: Annotated[
        dict[str, Value],
        Meta(
            description="Values of the extract's parameters: constants; {parameter: …}, one of the combination's own; or"
            " {input: …, column: …}, the different values of a column of another input."
        ),
    ] = {}
    stored: Annotated[
        bool,
        Meta(description="A proven result of the same data date, revision and values that is stored already is taken."),
    ] = False

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON, without what is as it is by default."""
        found: dict[str, Any] = msgspec.to_builtins(self)
        return found

    def handed(self) -> dict[str, str]:
        """Parameters of the combination, by the input's own that takes the value of each."""
        return {name: _object(value)["parameter"] for name, value in self.values.items() if is_handed(value)}

    def drawn(self) -> dict[str, Drawn]:
        """Columns of other inputs, by the parameter that takes their values."""
        found = {name: _object(value) for name, value in self.values.items() if is_drawn(value)}
        return {name: Drawn(value["input"], value["column"]) for name, value in found.items()}

    def constants(self) -> dict[str, Any]:
        """What is given as it is."""
        return {name: value for name, value in self.values.items() if not is_handed(value) and not is_drawn(value)}


class Drawn(msgspec.Struct, frozen=True):
    """The different values of a column of another input."""

    input: str
    column: str


def _object(value: Value) -> dict[str, str]:
    assert isinstance(value, dict)
    return value


def is_handed(value: Any) -> bool:
    """Whether a value is a parameter of the combination."""
    return isinstance(value, Mapping) and set(value) == {"parameter"}


def is_drawn(value: Any) -> bool:
    """Whether a value is a column of another input."""
    return isinstance(value, Mapping) and set(value) == {"input", "column"}


def inputs_of(given: Any) -> tuple[Input, ...]:
    """From plain JSON. Raises BadInput; its fact ``where`` is the field's path: ``inputs[1].extract``."""
    if not isinstance(given, (list, tuple)):
        raise BadInput("inputs are a list.", 'Write [{"name": "meters", "extract": "meters_by_district"}].')
    if len(given) > MOST_INPUTS:
        raise BadInput(
            f"there are {len(given)} inputs; at most {MOST_INPUTS} are taken.", "Combine some of them first, in an extract."
        )
    made = tuple(_input(number, item) for number, item in enumerate(given))
    taken: dict[str, int] = {}
    for number, each in enumerate(made):
        if each.name.lower() in taken:
            raise refused(
                number, "name", f"input {taken[each.name.lower()] + 1} is called '{each.name}' too", "Give it another."
            )
        taken[each.name.lower()] = number
    _check_drawn(made)
    return made


def _input(number: int, item: Any) -> Input:
    if not isinstance(item, Mapping):
        raise refused(number, "", "it is no object", 'Write {"name": "meters", "extract": "meters_by_district"}.')
    try:
        made = msgspec.convert(dict(item), Input)
    except msgspec.ValidationError as error:
        raise _unreadable(number, str(error)) from error
    if not _NAME.fullmatch(made.name):
        hint = "Use letters, digits and underscores, beginning with a letter; at most 63."
        raise refused(number, "name", f"'{made.name[:80]}' cannot be the name of an input", hint)
    if bool(made.extract) == bool(made.lookup):
        raise refused(number, "extract", "it needs an extract or a lookup, one of the two", "Say which it is.")
    if made.lookup and (made.values or made.stored or made.statement != 1):
        raise refused(number, "lookup", "a lookup takes no values, and is of no statement", "Leave them out.")
    for name, value in made.values.items():
        if isinstance(value, Mapping) and not is_handed(value) and not is_drawn(value) and set(value) != {"from", "to"}:
            hint = 'Write {"parameter": "month"} or {"input": "districts", "column": "code"}.'
            raise refused(number, f"values.{name}", "this object is no value", hint)
    return made


def _check_drawn(inputs: Sequence[Input]) -> None:
    """Inputs whose columns give values are there, and none waits for itself."""
    by_name = {each.name.lower(): each for each in inputs}
    for number, each in enumerate(inputs):
        for name, drawn in each.drawn().items():
            if drawn.input.lower() not in by_name:
                found = unknown_name("input", drawn.input, [other.name for other in inputs])
                raise refused(number, f"values.{name}", found.message.rstrip("."), found.hint)
    left = list(in_order(inputs))
    if len(left) < len(inputs):
        circle = [each.name for each in inputs if each not in left]
        number = inputs.index(next(each for each in inputs if each not in left))
        raise refused(
            number, "values", f"{', '.join(circle)} would wait for each other's values for ever", "Give one of them constants."
        )


def in_order(inputs: Sequence[Input]) -> Iterator[Input]:
    """Each after those whose columns it takes values from; those that wait in a circle are left out."""
    done: set[str] = set()
    left = list(inputs)
    while left:
        ready = [each for each in left if all(drawn.input.lower() in done for drawn in each.drawn().values())]
        if not ready:
            return
        yield from ready
        done |= {each.name.lower() for each in ready}
        left = [each for each in left if each not in ready]


def schema() -> dict[str, Any]:
    """Of a file of inputs (JSON Schema 2020-12)."""
    return schema_of(tuple[Input, ...], "inputs", "Inputs of a combination")


def refused(number: int, field: str, what: str, hint: str) -> BadInput:
    """A refusal of one input, or of one field of it."""
    at = f"input {number + 1}" + (f", {field.replace('.', ', ')}" if field else "")
    return BadInput(f"{at}: {what}.", hint, where=f"inputs[{number}]" + (f".{field}" if field else ""))


def _unreadable(number: int, said: str) -> BadInput:
    what, _, at = said.partition(" - at `$")
    field = at.rstrip("`").removeprefix(".")
    unknown = _UNKNOWN.search(what)
    fields = [each.encode_name for each in msgspec.structs.fields(Input)]
    hint = f"It takes {', '.join(fields)}."
    if unknown and (close := nearest(unknown["name"], fields)):
        hint = f"Did you mean '{close}'? {hint}"
    return refused(number, field, what[:1].lower() + what[1:].replace("`", "'"), hint)
