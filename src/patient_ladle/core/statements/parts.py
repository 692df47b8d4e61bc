"""What every query language's statements have in common: parts with titles and places, and texts with something put in."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from ..errors import StatementRefused
from ..keepable import unfit

MAX_STATEMENT_BYTES = 256 * 1024
"""Long enough for any statement written by hand; a longer one is generated and belongs into the database as a view."""
MAX_STATEMENTS = 40
"""Statements of one extract; more belong into several extracts."""
MAX_TITLE = 80


@dataclass(frozen=True, slots=True)
class Part:
    """One statement of a text: its title, and its text after blanks that keep every line and column where it was."""

    title: str
    text: str
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class FilledPart:
    """One statement of a text: title, text, the names it uses, and its text with the values filled in."""

    title: str
    text: str
    names: list[str]
    filled_in: str


@dataclass(frozen=True, slots=True)
class Rendered:
    """A statement's text with its parameters replaced, and the way back from its positions to the author's text."""

    text: str
    spans: tuple[tuple[int, int, int, int], ...]
    """Of each replacement: start and length in the rendered text, start and length in the author's."""

    def original(self, position: int) -> int:
        """The author's position for a position in the rendered text."""
        shift = 0
        for start, length, author_start, author_length in self.spans:
            if position < start:
                break
            if position < start + length:
                return author_start
            shift = start + length - author_start - author_length
        return position - shift


def replaced(text: str, parameters: Iterable[tuple[int, int]], put: Callable[[str], str]) -> Rendered:
    """The text with ``put(name)`` in place of each parameter, given where they begin and end; all else stays to the letter."""
    out: list[str] = []
    spans: list[tuple[int, int, int, int]] = []
    at = last = 0
    for start, end in parameters:
        piece = put(text[start + 1 : end])
        at += start - last
        spans.append((at, len(piece), start, end - start))
        out += [text[last:start], piece]
        at, last = at + len(piece), end
    return Rendered("".join([*out, text[last:]]), tuple(spans))


def place(text: str, position: int) -> tuple[int, int]:
    """Line and column of a position, both from 1, in code points."""
    return text.count("\n", 0, position) + 1, position - (text.rfind("\n", 0, position) + 1) + 1


def refused_at(text: str, position: int, what: str, hint: str) -> StatementRefused:
    """The refusal of what stands there; ``what`` ends a sentence that goes on with the place."""
    line, column = place(text, position)
    return StatementRefused(f"{what} at line {line}, column {column}.", hint, line=line, column=column)


def refuse_unfit(text: str) -> None:
    """Too long, or with characters that no statement can hold anywhere. Raises StatementRefused."""
    size = len(text.encode(errors="surrogatepass"))
    if size > MAX_STATEMENT_BYTES:
        raise StatementRefused(
            f"the statement has {size:,} bytes; at most {MAX_STATEMENT_BYTES:,} are taken.",
            "Keep the bulk of it in the database as a view, and select from that.",
            bytes=size,
        )
    if found := unfit(text):
        raise refused_at(text, found[0], f"there is {found[1]}", "Remove it.")
