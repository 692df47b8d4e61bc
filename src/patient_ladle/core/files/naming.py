"""Names of delivered files, and lines in them, from a template such as ``{extract}-{data_date:%Y%m}``."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Mapping
from datetime import date
from typing import Any

from ..errors import BadInput, unknown_name

DEFAULT_TEMPLATE = "{extract}-{data_date}"
FIELDS = ("extract", "folder", "data_date", "environment", "statement", "part", "run")
"""Beside them ``value.NAME`` is the value of a parameter."""
LINE_FIELDS = ("extract", "folder", "data_date", "environment", "statement", "run")
"""What a line in a file may name, beside the values: a file is one part, and says so in its name."""
MAX_NAME_BYTES = 200
"""Below the 255 that file systems take, with room for an extension and a temporary mark."""
_FIELD = re.compile(r"\{([^{}]*)\}")
_UNSAFE = re.compile(r"[^\w.,+=@() -]|^[. ]+|[. ]+$")
_RESERVED = re.compile(r"^(con|prn|aux|nul|com[0-9]|lpt[0-9])(?=\.|$)", re.IGNORECASE)
"""Names that some file systems keep for devices."""
_DATE_MARKS = "aAbBdHIjmMpSUVuwWyYG%"


def _split(field: str) -> tuple[str, str]:
    name, _, form = field.partition(":")
    return name, form


def check_template(template: str, parameters: Collection[str] | None = None) -> None:
    """Refuse a template that names an unknown field, holds a folder, or leaves no name. Raises BadInput.

    ``parameters``: the names that ``value.NAME`` may have; None where they are not known.
    """
    check_fields(template, "file name", FIELDS, parameters)
    rest = _FIELD.sub("x", template)
    if _UNSAFE.search(rest) or not rest:
        fields = ", ".join(f"{{{f}}}" for f in (*FIELDS, "value.NAME"))
        raise BadInput(
            f"'{template}' cannot be a file name.",
            f"Use letters, digits, spaces and . , + = @ ( ) _ - and the fields {fields}.",
        )
    if len(template.encode()) > MAX_NAME_BYTES:
        raise BadInput(f"a file name may have {MAX_NAME_BYTES} bytes at most.", "Shorten it.")


def check_fields(template: str, what: str, fields: Collection[str], parameters: Collection[str] | None = None) -> None:
    """Refuse a field that is none of these, nor ``value.NAME`` of a parameter. ``what`` the template makes, in words.
    Raises BadInput."""
    for field in _FIELD.findall(template):
        name, form = _split(field)
        if name.startswith("value."):
            if parameters is not None and name[6:] not in parameters:
                raise unknown_name(f"parameter in the {what}", name[6:], parameters)
        elif name not in fields:
            raise unknown_name(f"field of a {what}", name, (*fields, "value.NAME"))
        if form:
            _check_style(field, name, form)


def _check_style(field: str, name: str, form: str) -> None:
    if name != "data_date":
        raise BadInput(f"'{{{field}}}': only data_date takes a style.", "Write {data_date:%Y%m}.")
    for mark in re.findall("%(.?)", form):
        if mark not in _DATE_MARKS or not mark:
            raise BadInput(f"'%{mark}' in '{{{field}}}' is not a mark of a date.", "Use strftime's marks, such as %Y, %m, %d.")
    if "%" not in form:
        raise BadInput(f"'{{{field}}}' holds no mark of a date.", "Use strftime's marks, such as {data_date:%Y%m}.")


def holds(template: str, name: str) -> bool:
    """Whether the template has the field."""
    return any(_split(field)[0] == name for field in _FIELD.findall(template))


def filled(template: str, values: Mapping[str, Any], fit: Callable[[str], str] = str) -> str:
    """The template with what its fields stand for, each made ``fit``; one that has no value stays as it is written.

    ``values``: by field, ``data_date`` a date, parameters as ``value.NAME``.
    """

    def one(found: re.Match[str]) -> str:
        name, form = _split(found.group(1))
        if name not in values:
            return found.group()
        value = values[name]
        return fit(value.strftime(form) if form and isinstance(value, date) else str(value))

    return _FIELD.sub(one, template)


def stem(template: str, values: Mapping[str, Any]) -> str:
    """The name without its extension; what a value brings and a name cannot hold becomes ``_``.

    ``values``: by field, ``data_date`` a date, parameters as ``value.NAME``.
    """
    check_template(template)

    nothing = {_split(field)[0]: "" for field in _FIELD.findall(template)}
    made = filled(template, {**nothing, **values}, lambda text: _UNSAFE.sub("_", text))
    made = _UNSAFE.sub("_", made) or "_"
    if _RESERVED.match(made):
        made = f"_{made}"
    return made.encode()[:MAX_NAME_BYTES].decode(errors="ignore").rstrip(". ")


def slug(title: str) -> str:
    """A title as a part of a file name: letters and digits, the rest as underscores, at most 40 bytes."""
    made = re.sub(r"[\W_]+", "_", title).strip("_").lower()
    return made.encode()[:40].decode(errors="ignore").rstrip("_") or "statement"


def file_stem(template: str, values: Mapping[str, Any], statement: tuple[int, str] | None, part: int | None) -> str:
    """The stem of one file of a run. ``statement``: number from 1 and title, where there are several; ``part`` from 1.

    A statement or part that the template does not name is added at the end, so that no two files have one name.
    """
    mark = f"{statement[0]}-{slug(statement[1])}" if statement else ""
    made = stem(template, {**values, "statement": mark, "part": "" if part is None else f"{part:03d}"})
    if not statement and holds(template, "statement"):
        made = made.rstrip("-_. ") or "_"  # what parted it from the rest
    if statement and not holds(template, "statement"):
        made += f".{mark}"
    if part is not None and not holds(template, "part"):
        made += f".{part:03d}"
    return made
