"""JSON (RFC 8259) with comments and parameters, read into nodes that know their places.

Comments are ``// …`` to the end of the line and ``/* … */``; a parameter ``:name`` stands where a value stands. Texts are
read in time proportional to their length. Positions are 0-based code points.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from ...errors import StatementRefused
from ..parts import refuse_unfit, refused_at

MAX_DEPTH = 100
"""Levels that documents of the stores may have."""
_TOKEN = re.compile(
    r"""(?P<blank>[ \t\r\n\ufeff]+)
    |(?P<comment>//[^\n]*|/\*(?:[^*]|\*(?!/))*\*/)
    |(?P<string>"(?:[^"\\\n]|\\.)*")
    |(?P<number>-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?(?![\w.+-]))
    |(?P<word>[A-Za-z_$][\w$]*)
    |(?P<sign>[{}\[\],:;])""",
    re.VERBOSE,
)
_NAME = re.compile(r"[a-z_][a-z0-9_]*")
_WORDS = {"true": True, "false": False, "null": None}
LONG = 2**63


@dataclass(frozen=True, slots=True)
class Token:
    """A piece of the text. ``kind``: blank, comment, string, number, word or the sign itself."""

    kind: str
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Node:
    """A value of the text. ``kind``: object, array, string, number, word or parameter.

    ``value``: of an object its pairs of nodes, of an array its nodes, of a parameter its name, else what it is.
    """

    kind: str
    value: Any
    start: int
    end: int

    def pairs(self) -> Iterator[tuple[Node, Node]]:
        """Keys and values of an object; none of anything else."""
        yield from self.value if self.kind == "object" else ()

    def items(self) -> Iterator[Node]:
        """Of an array; none of anything else."""
        yield from self.value if self.kind == "array" else ()

    def get(self, key: str) -> Node | None:
        """The value of a key."""
        return next((value for name, value in self.pairs() if name.value == key), None)


def tokens(text: str) -> Iterator[Token]:
    """The whole text in pieces. Raises StatementRefused where something is no JSON."""
    at = 0
    while at < len(text):
        found = _TOKEN.match(text, at)
        if found is None:
            raise _unreadable(text, at)
        kind = found.lastgroup or ""
        yield Token(found.group() if kind == "sign" else kind, at, found.end())
        at = found.end()


def _unreadable(text: str, at: int) -> StatementRefused:
    if text.startswith("/*", at):
        return refused_at(text, at, "a comment begins and has no end", "Close it: */.")
    if text[at] == '"':
        return refused_at(
            text, at, "a text begins and has no end", 'Close it with " on the same line; write a line break as \\n.'
        )
    if text[at] == "'":
        return refused_at(text, at, "there is a text in single quotes", "JSON writes it in double quotes.")
    if text[at].isdigit() or text[at] in "-+.":
        return refused_at(text, at, "there is a number that JSON does not know", "Write it as 12, -0.5 or 1e3.")
    return refused_at(
        text, at, f"'{text[at]}' stands where JSON has no place for it", "Remove it, or put it between double quotes."
    )


@dataclass(frozen=True, slots=True)
class Read:
    """One statement of a text: the first comment before it, what it is, and from where to where it goes with its comments."""

    title: str
    node: Node
    start: int
    end: int


def reading(text: str) -> list[Read]:
    """The statements of a text, parted by semicolons.

    Raises StatementRefused, with line and column, for what is no JSON.
    """
    refuse_unfit(text)
    return list(_Reader(text).statements())


class _Reader:
    def __init__(self, text: str) -> None:
        self.text = text
        self.pieces = tokens(text)
        self.title = ""
        self.at = self._next()

    def statements(self) -> Iterator[Read]:
        start = 0
        while self.at.kind:
            if self.at.kind == ";":
                start, self.title = self.at.end, ""
                self.at = self._next()
                continue
            self.depth = 0
            title, value = self.title, self._value()
            if self.at.kind not in (";", ""):
                raise self._unexpected("one statement ends here", "Put a semicolon between two statements.")
            yield Read(title, value, start, self.at.start)

    def _next(self) -> Token:
        for token in self.pieces:
            if token.kind == "comment" and not self.title:
                piece = self.text[token.start : token.end]
                self.title = " ".join((piece[2:-2] if piece.startswith("/*") else piece[2:]).split())
            elif token.kind not in ("blank", "comment"):
                return token
        return Token("", len(self.text), len(self.text))

    def _unexpected(self, what: str, hint: str) -> StatementRefused:
        piece = self.text[self.at.start : self.at.end][:20]
        found = f"'{piece}' stands there" if piece else "the text ends"
        return refused_at(self.text, self.at.start, f"{what}, and {found}", hint)

    def _value(self) -> Node:
        token, kind = self.at, self.at.kind
        piece = self.text[token.start : token.end]
        if kind in ("{", "["):
            self.depth += 1
            if self.depth > MAX_DEPTH:
                raise refused_at(self.text, token.start, f"there are more than {MAX_DEPTH} levels", "Write it flatter.")
            made = self._object() if kind == "{" else self._array()
            self.depth -= 1
            return made
        if kind == ":":
            return self._parameter()
        if kind == "string":
            value: Any = self._string(token)
        elif kind == "number":
            value = self._number(token)
        elif kind == "word" and piece in _WORDS:
            value = _WORDS[piece]
        else:
            hint = (
                "Write a text in double quotes, a number, true, false, null, an object, a list, or a parameter such as :zone."
            )
            raise self._unexpected("a value is wanted", hint)
        self.at = self._next()
        return Node(kind, value, token.start, token.end)

    def _string(self, token: Token) -> str:
        try:
            made: str = json.loads(self.text[token.start : token.end])
            made.encode()
        except ValueError:
            raise refused_at(
                self.text,
                token.start,
                "a text holds what JSON does not",
                'Write \\n, \\t, \\", \\\\ or \\u0041 after a backslash.',
            ) from None
        return made

    def _number(self, token: Token) -> int | float:
        made: int | float = json.loads(self.text[token.start : token.end])
        if (isinstance(made, int) and not -LONG <= made < LONG) or made in (float("inf"), -float("inf")):
            hint = 'Write it as a decimal: {"$numberDecimal": "…"}.'
            raise refused_at(self.text, token.start, "there is a number of more than 64 bits", hint)
        return made

    def _parameter(self) -> Node:
        start = self.at.start
        self.at = self._next()
        name = self.text[self.at.start : self.at.end]
        if self.at.start != start + 1 or not _NAME.fullmatch(name):
            what, hint = "a parameter's name is wanted", "It is of small letters, digits and _, right after its colon: :zone."
            raise self._unexpected(what, hint)
        end = self.at.end
        self.at = self._next()
        return Node("parameter", name, start, end)

    def _object(self) -> Node:
        start, found, known = self.at.start, [], set()
        self.at = self._next()
        while self.at.kind != "}":
            if self.at.kind != "string":
                raise self._unexpected("a name in double quotes is wanted", 'Write it as "name": value.')
            key = Node("string", self._string(self.at), self.at.start, self.at.end)
            if key.value in known:
                hint = "Keep one of the two: a store would mind only one."
                raise refused_at(self.text, key.start, f"'{key.value}' stands a second time", hint)
            known.add(key.value)
            self.at = self._next()
            if self.at.kind != ":":
                raise self._unexpected(f"a colon is wanted after '{key.value}'", 'Write it as "name": value.')
            self.at = self._next()
            found.append((key, self._value()))
            self._comma("}")
        return self._closed(Node("object", tuple(found), start, self.at.end))

    def _array(self) -> Node:
        start, found = self.at.start, []
        self.at = self._next()
        while self.at.kind != "]":
            found.append(self._value())
            self._comma("]")
        return self._closed(Node("array", tuple(found), start, self.at.end))

    def _comma(self, end: str) -> None:
        if self.at.kind == end:
            return
        if self.at.kind != ",":
            raise self._unexpected(f"a comma or {end} is wanted", "Look whether one is missing before it.")
        comma = self.at
        self.at = self._next()
        if self.at.kind == end:
            raise refused_at(self.text, comma.start, f"a comma stands before {end}", "Remove it.")

    def _closed(self, made: Node) -> Node:
        self.at = self._next()
        return made
