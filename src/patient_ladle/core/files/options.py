"""Options of an output: declared once, checked in one place, told alike by every interface."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ..errors import BadInput, unknown_name

FEW = 8
"""Choices that a hint names all."""
_LONE = re.compile("[\ud800-\udfff]")
"""Halves of characters, which JSON can carry and no encoding can."""


@dataclass(frozen=True, slots=True)
class Option:
    """One option: its name, what it is for, its default, and its allowed values.

    ``check`` takes a value of the right type and returns it as it will be used, or raises BadInput; ``alias`` gives the choice
    that another name means.
    """

    name: str
    default: bool | int | str | tuple[str, ...]
    note: str
    choices: tuple[str, ...] = ()
    check: Callable[[Any], Any] | None = None
    alias: Callable[[str], str] | None = None
    has_fields: bool = False
    """Its texts may name what a file name may."""

    @property
    def kind(self) -> str:
        """``choice``, ``boolean``, ``integer``, ``texts`` or ``text``."""
        if self.choices:
            return "choice"
        return {bool: "boolean", int: "integer", tuple: "texts", str: "text"}[type(self.default)]

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON, for whoever shows or documents it."""
        default = list(self.default) if isinstance(self.default, tuple) else self.default
        return {"name": self.name, "kind": self.kind, "default": default, "choices": list(self.choices), "note": self.note}

    def checked(self, value: Any) -> Any:
        """The value as it will be used. Raises BadInput."""
        made = _typed(self, value)
        for text in made if isinstance(made, tuple) else (made,):
            if isinstance(text, str) and ((not text.isascii() and _LONE.search(text)) or "\0" in text):
                raise BadInput(f"{self.name} holds a character that no file takes.", f"{self.name}: {self.note}.")
        made = self.alias(made) if self.alias else made
        if self.choices and made not in self.choices:
            refused = unknown_name(f"value of {self.name}", str(value), self.choices)
            if len(self.choices) <= FEW:  # all of them are told: the nearest in letters may be the farthest in meaning
                refused.hint = f"Choose from: {', '.join(filter(None, self.choices))}."
            raise refused
        if self.check is None:
            return made
        try:
            return self.check(made)
        except BadInput as error:
            named = self.name in error.message
            raise type(error)(error.message if named else f"{self.name}: {error.message}", error.hint) from error


def _typed(option: Option, value: Any) -> Any:
    match option.kind, value:
        case "boolean", bool():
            return value
        case "boolean", str() if value.lower() in ("true", "false", "yes", "no", "on", "off"):
            return value.lower() in ("true", "yes", "on")
        case "integer", int() if not isinstance(value, bool) and value >= 0:
            return value
        case "integer", str() if value.replace("_", "").isdecimal():
            return int(value)
        case "texts", str():
            return (value,)
        case "texts", list() | tuple() if all(isinstance(item, str) for item in value):
            return tuple(value)
        case "text" | "choice", str():
            return value
        case "text" | "choice", int() if not isinstance(value, bool):
            return str(value)
    wanted = {"boolean": "true or false", "integer": "a whole number", "texts": "a list of texts"}.get(option.kind, "a text")
    raise BadInput(f"{option.name} is {wanted}, not {value!r}.", f"{option.name}: {option.note}.")


def checked(given: Mapping[str, Any], declared: Sequence[Option], where: str) -> dict[str, Any]:
    """Every declared option with its value, given or default. Raises BadInput and UnknownName, naming ``where``."""
    known = {option.name: option for option in declared}
    for name in given:
        if name not in known:
            raise unknown_name(f"option of {where}", str(name), known)
    try:
        return {name: option.checked(given[name]) if name in given else option.default for name, option in known.items()}
    except BadInput as error:
        raise type(error)(f"{where}: {error.message}", error.hint) from error


def shown(values: Mapping[str, Any], declared: Sequence[Option]) -> dict[str, Any]:
    """Only what differs from the defaults, as plain JSON."""
    kept = {}
    for option in declared:
        value = values.get(option.name, option.default)
        if value != option.default:
            kept[option.name] = list(value) if isinstance(value, tuple) else value
    return kept
