"""What a statement's text may refer to: calls, types, relations, operators; more rather than less, for a gate to ask about.

Nothing here understands the statement. A name that only looks like a call is told as one: whoever asks a database which
functions go by it finds none. Positions are 0-based code points.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from .dialects import Dialect
from .lexing import scan
from .words import Word, words_of


@dataclass(frozen=True, slots=True)
class Name:
    """A name as it stands in the text: what stands before its dot, itself, whether each is quoted, and its place."""

    path: tuple[str, ...]
    quoted: tuple[bool, ...]
    start: int

    @property
    def last(self) -> str:
        """The name without what stands before its last dot."""
        return self.path[-1]


@dataclass(frozen=True, slots=True)
class References:
    """See the module. ``fields`` follow a dot and no parenthesis: some databases call a function so."""

    names: tuple[Name, ...]
    calls: tuple[Name, ...]
    fields: tuple[Name, ...]
    types: tuple[Name, ...]
    operators: dict[str, int]
    """Each run of operator characters that may be one, and where the first stands; ``beside`` tells those without a number."""
    beside: frozenset[str]
    """Operators that stand at least once with no number written beside them."""


_OPERATORS = re.compile(r"[-+*/<>=~!@#%^&|`?]+")
_LONGEST_OPERATOR = 63
"""Characters: names of PostgreSQL are no longer."""
_NOT_BEFORE_A_TYPE = frozenset({"from", "join", "only", "lateral", "table", "into", "select", "distinct"})


def references(text: str, dialect: Dialect) -> References:
    """What the text may refer to. Raises StatementRefused for what is never closed."""
    words = words_of(text, dialect)
    names: list[Name] = []
    calls: list[Name] = []
    fields: list[Name] = []
    types: list[Name] = []
    for first, last in _paths(words):
        path = words[first : last + 1 : 2]
        name = Name(tuple(word.text for word in path), tuple(word.kind == "name" for word in path), words[first].start)
        names.append(name)
        follows = words[last + 1] if last + 1 < len(words) else None
        if follows is not None and follows.text == "(" and follows.kind == "mark":
            calls.append(name)
        elif len(path) > 1 or (first > 0 and words[first - 1].text == "."):
            fields.append(name)
        if _may_be_a_type(words, first, last, dialect):
            types.append(name)
    operators, beside = _operators(text, dialect)
    return References(tuple(names), tuple(calls), tuple(fields), tuple(types), operators, beside)


def _paths(words: Sequence[Word]) -> Iterator[tuple[int, int]]:
    """Places of the first and the last word of each name with dots in it, or none."""
    at = 0
    while at < len(words):
        if words[at].kind not in ("word", "name"):
            at += 1
            continue
        last = at
        while last + 2 < len(words) and words[last + 1].text == "." and words[last + 2].kind in ("word", "name"):
            last += 2
        yield at, last
        at = last + 1


def _may_be_a_type(words: Sequence[Word], first: int, last: int, dialect: Dialect) -> bool:
    """After ``::``, before a string, in ``cast(… as it)``, in a list of columns (``x it, y it``) or called like a function."""
    before = words[first - 1] if first else None
    after = words[last + 1] if last + 1 < len(words) else None
    if after is not None and (after.kind == "string" or after.text == "("):
        return True
    if before is None:
        return False
    if before.kind == "mark":
        return before.text == "::"
    if before.is_word("as"):
        return _closes(words, last + 1)
    if before.kind == "word" and before.text.lower() in (dialect.reserved | _NOT_BEFORE_A_TYPE):
        return False
    return before.kind in ("word", "name") and (after is None or after.text in (",", ")", "[") or after.kind == "word")


def _closes(words: Sequence[Word], at: int) -> bool:
    """Whether a parenthesis closes there, after the digits and brackets that may belong to a type."""
    depth = 0
    for word in words[at:]:
        if word.text in ("(", "["):
            depth += 1
        elif word.text in (")", "]"):
            if not depth:
                return word.text == ")"
            depth -= 1
        elif not depth:
            return False
    return False


def _operators(text: str, dialect: Dialect) -> tuple[dict[str, int], frozenset[str]]:
    found: dict[str, int] = {}
    beside: set[str] = set()
    tokens = scan(text, dialect)
    for number, token in enumerate(tokens):
        if token.kind not in ("text", "slice"):
            continue
        piece = text[token.start : token.end]
        for run in _OPERATORS.finditer(piece):
            parts = _operators_in(run.group())
            for part in parts:
                found.setdefault(part, token.start + run.start())
            left = piece[: run.start()].rstrip()
            right = piece[run.end() :].lstrip()
            near = bool(number) and not left and tokens[number - 1].kind == "text"
            if not (right[:1].isdigit() or _ENDS_IN_NUMBER.search(left) or (near and _ends_in_number(text, token.start))):
                beside |= parts
    return found, frozenset(beside)


def _operators_in(run: str) -> set[str]:
    """What a run may be cut into: the longest comes first, signs at its end may stand for themselves."""
    bare = run.rstrip("+-")
    return {run[:end] for end in range(max(1, len(bare)), min(len(run), _LONGEST_OPERATOR) + 1)} | set(run[len(bare) :])


_ENDS_IN_NUMBER = re.compile(r"(?<![\w$\".])\d+(?:\.\d*)?$")


def _ends_in_number(text: str, end: int) -> bool:
    return _ENDS_IN_NUMBER.search(text[:end].rstrip()[-80:]) is not None
