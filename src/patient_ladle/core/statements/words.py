"""The words of a SQL statement, from its tokens: what diagnostics and completion both look at."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from .dialects import Dialect
from .lexing import Token, scan


@dataclass(frozen=True, slots=True)
class Word:
    """A word, a quoted name (without its quotes), a parameter or a mark of a statement, with its place."""

    kind: str
    text: str
    start: int
    end: int

    def is_word(self, *words: str) -> bool:
        """Whether it is one of these words, unquoted."""
        return self.kind == "word" and self.text.lower() in words


_PIECE = re.compile(r"[^\W\d][\w$]*|\d[\w.]*|<>|<=|>=|!=|::|:=|\S")


def words_of(text: str, dialect: Dialect) -> list[Word]:
    """The statement's words without comments and white space. Raises StatementRefused for what is never closed."""
    return words_in(text, scan(text, dialect))


def words_in(text: str, tokens: Sequence[Token]) -> list[Word]:
    """The same, of tokens of the text."""
    found: list[Word] = []
    for token in tokens:
        piece = text[token.start : token.end]
        if token.kind == "name":
            quote = piece[-1] if piece[0] != "[" else "]"
            found.append(Word("name", piece[1:-1].replace(quote * 2, quote), token.start, token.end))
        elif token.kind in ("text", "slice"):
            for each in _PIECE.finditer(piece):
                kind = "word" if each.group()[0].isalpha() or each.group()[0] == "_" else "mark"
                found.append(Word(kind, each.group(), token.start + each.start(), token.start + each.end()))
        elif token.kind in ("parameter", "string", "end"):
            found.append(Word(token.kind, piece, token.start, token.end))
    return _joined(found)


def _joined(words: list[Word]) -> list[Word]:
    """The scanner cuts at letters that may begin a string: neighbours that touch are one word."""
    made: list[Word] = []
    for word in words:
        if made and word.kind == made[-1].kind == "word" and made[-1].end == word.start:
            made[-1] = Word("word", made[-1].text + word.text, made[-1].start, word.end)
        else:
            made.append(word)
    return made
