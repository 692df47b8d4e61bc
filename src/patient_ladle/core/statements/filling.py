"""A statement taken out with its values filled in, to run in any SQL editor, and brought back with its parameters in place.

Each value stands between two comments, ``/* :since */ '2026-11-01'::date /* : */``: whatever happens to the text around
them, and to the value itself, bringing it back puts ``:since`` there again.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable

from ..errors import BadInput, StatementRefused
from ..values.parameters import MASK, BoundValues, Parameter, Value
from .dialects import Dialect
from .lexing import scan
from .parts import Rendered, place
from .scanner import replace_parameters

_OPENS = re.compile(r"/\*\s*:([a-z_][a-z0-9_]*)\s*\*/")
_CLOSES = re.compile(r"/\*\s*:\s*\*/")


def fill_in(text: str, dialect: Dialect, literal: Callable[[Parameter, Value], str], bound: BoundValues) -> Rendered:
    """The text with each value as ``literal`` writes it, between its two comments; sensitive ones masked.

    Raises BadInput for a name that no value was given for.
    """

    def put(name: str) -> str:
        parameter, value = declared(bound, name)
        if parameter.type == "identifier":
            written = dialect.quoted_path(str(value))
        elif parameter.sensitive and value is not None:
            written = f"'{MASK}'"
        else:
            written = literal(parameter, value)
        return marked(name, written)

    filled = replace_parameters(text, dialect, put)
    _refuse_another_reading(text, filled, dialect)
    return filled


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
    return restored(text, ((token.start, token.end) for token in scan(text, dialect) if token.kind == "comment"))


def marked(name: str, written: str) -> str:
    """A value between the two comments that ``restored`` knows it by."""
    return f"/* :{name} */ {written} /* : */"


def restored(text: str, comments: Iterable[tuple[int, int]]) -> str:
    """The same of any language with such comments, given where each of the text begins and ends."""
    out: list[str] = []
    at = 0
    opened: tuple[str, int] | None = None
    for start, end in comments:
        piece = text[start:end]
        opens, closes = _OPENS.fullmatch(piece), _CLOSES.fullmatch(piece)
        if (opens and opened) or (closes and not opened):
            raise _unpaired(text, start, piece)
        if opens:
            out.append(text[at:start])
            opened = (opens.group(1), start)
        elif closes and opened:
            out.append(f":{opened[0]}")
            at, opened = end, None
    if opened:
        raise _unpaired(text, opened[1], f"/* :{opened[0]} */")
    return "".join([*out, text[at:]])


def declared(bound: BoundValues, name: str) -> tuple[Parameter, Value]:
    """A parameter of the text and its value. Raises StatementRefused where it is not declared."""
    if name not in bound.parameters:
        raise StatementRefused(f"the statement uses ':{name}', which is not declared.", "Declare the parameter.")
    return bound.parameters[name], bound.values[name]


def _unpaired(text: str, position: int, piece: str) -> BadInput:
    line, column = place(text, position)
    return BadInput(
        f"the mark {piece} at line {line}, column {column} has no other that belongs to it.",
        "Put the value back between its two comments, or write the parameter there yourself.",
        line=line,
        column=column,
    )
