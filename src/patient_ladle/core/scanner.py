"""Finding parameters, comments and statement ends in a statement's text, without understanding it.

A parameter is ``:name``, the *named* style of PEP 249. Strings, quoted names, comments, ``::`` casts, ``:=`` and array
slices are left alone. Positions are 0-based code points into the text; ``place`` turns one into line and column.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from .dialects import Dialect
from .errors import StatementRefused

MAX_STATEMENT_BYTES = 256 * 1024
"""Long enough for any statement written by hand; a longer one is generated and belongs into the database as a view."""

_PLAIN = re.compile(r"[^'\"`#$\-/:;\[\]()eE]+")
_WORD = re.compile(r"[^\W\d]\w*")
_UNFIT = re.compile(r"[\0\ud800-\udfff]")
_DOLLAR = re.compile(r"\$(?:[^\W\d]\w*)?\$")


@dataclass(frozen=True, slots=True)
class Token:
    """``kind`` is text, string, name, comment, parameter or end (a semicolon)."""

    kind: str
    start: int
    end: int


def place(text: str, position: int) -> tuple[int, int]:
    """Line and column of a position, both from 1, in code points."""
    before = text[:position]
    return before.count("\n") + 1, position - (before.rfind("\n") + 1) + 1


def _unclosed(text: str, what: str, start: int) -> StatementRefused:
    line, column = place(text, start)
    return StatementRefused(
        f"the {what} that begins at line {line}, column {column} is never closed.",
        "Close it, or remove its opening mark.",
        line=line,
        column=column,
    )


def _quoted_end(text: str, start: int, mark: str, backslash: bool, what: str) -> int:
    at = start + 1
    while at < len(text):
        if backslash and text[at] == "\\":
            at += 2
        elif text[at] != mark:
            at += 1
        elif text[at + 1 : at + 2] == mark:
            at += 2
        else:
            return at + 1
    raise _unclosed(text, what, start)


def _comment_end(text: str, start: int, nested: bool) -> int:
    depth, at = 1, start + 2
    while depth:
        close, opened = text.find("*/", at), text.find("/*", at)
        if close < 0:
            raise _unclosed(text, "comment", start)
        if nested and 0 <= opened < close:
            depth, at = depth + 1, opened + 2
        else:
            depth, at = depth - 1, close + 2
    return at


class _Scan:
    """One pass over one text; keeps the stack of open brackets to tell a slice from a parameter."""

    def __init__(self, text: str, dialect: Dialect) -> None:
        self.text, self.dialect = text, dialect
        self.brackets: list[str] = []

    def _opens_subscript(self, at: int) -> bool:
        before = self.text[max(0, at - 64) : at].rstrip()
        word = re.search(r"\w+$", before)
        return word.group().lower() != "array" if word else before.endswith((")", "]", '"'))

    def _bracket(self, at: int) -> None:
        char = self.text[at]
        if char == "[":
            self.brackets.append("subscript" if self._opens_subscript(at) else "list")
        elif char == "(":
            self.brackets.append("parenthesis")
        elif self.brackets:
            self.brackets.pop()

    def _begins_line_comment(self, at: int, pair: str) -> bool:
        if not self.dialect.hash_comments:
            return pair == "--"
        return self.text[at] == "#" or (pair == "--" and (not self.text[at + 2 : at + 3] or self.text[at + 2].isspace()))

    def _special(self, at: int) -> tuple[str, int]:
        text, dialect = self.text, self.dialect
        char, pair = text[at], text[at : at + 2]
        after_word = at > 0 and (text[at - 1].isalnum() or text[at - 1] in "_$")
        if self._begins_line_comment(at, pair):
            end = text.find("\n", at)
            return "comment", len(text) if end < 0 else end
        if pair == "/*":
            return "comment", _comment_end(text, at, dialect.nested_comments)
        if char == "'" or (char == '"' and dialect.double_quoted_strings):
            return "string", _quoted_end(text, at, char, dialect.backslash_escapes, "string")
        if char in "eE":
            if dialect.escape_strings and text[at + 1 : at + 2] == "'" and not after_word:
                return "string", _quoted_end(text, at + 1, "'", True, "string")
            word = _WORD.match(text, at)
            return "text", word.end() if word else at + 1
        if char == '"' or (char == "`" and dialect.backtick_names):
            return "name", _quoted_end(text, at, char, False, "quoted name")
        if char == "[" and dialect.bracket_names:
            end = text.find("]", at)
            if end < 0:
                raise _unclosed(text, "quoted name", at)
            return "name", end + 1
        if char == "$" and dialect.dollar_quotes and not after_word:
            tag = _DOLLAR.match(text, at)
            if tag:
                end = text.find(tag.group(), tag.end())
                if end < 0:
                    raise _unclosed(text, "string", at)
                return "string", end + len(tag.group())
        if char == ";":
            return "end", at + 1
        if pair in ("::", ":="):
            return "text", at + 2
        if char == ":" and not (dialect.subscripts and self.brackets[-1:] == ["subscript"]):
            word = _WORD.match(text, at + 1)
            if word and not after_word and text[at - 1 : at] not in (")", "]"):
                return "parameter", word.end()
        if char in "()[]":
            self._bracket(at)
        return "text", at + 1

    def tokens(self) -> Iterator[Token]:
        at, text = 0, self.text
        while at < len(text):
            plain = _PLAIN.match(text, at)
            if plain:
                yield Token("text", at, plain.end())
                at = plain.end()
                continue
            kind, end = self._special(at)
            yield Token(kind, at, end)
            at = end


def scan(text: str, dialect: Dialect) -> Iterator[Token]:
    """Cut the text into tokens that cover it without a gap.

    Raises StatementRefused at a string, quoted name or comment that is never closed.
    """
    return _Scan(text, dialect).tokens()


def parameter_names(text: str, dialect: Dialect) -> list[str]:
    """Names of the parameters used, each once, in the order of their first use."""
    return list(dict.fromkeys(text[t.start + 1 : t.end] for t in scan(text, dialect) if t.kind == "parameter"))


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


def replace_parameters(text: str, dialect: Dialect, put: Callable[[str], str]) -> Rendered:
    """The text with ``put(name)`` in place of each parameter; all else stays to the letter."""
    out: list[str] = []
    spans: list[tuple[int, int, int, int]] = []
    at = 0
    for token in scan(text, dialect):
        piece = text[token.start : token.end]
        if token.kind == "parameter":
            piece = put(piece[1:])
            spans.append((at, len(piece), token.start, token.end - token.start))
        out.append(piece)
        at += len(piece)
    return Rendered("".join(out), tuple(spans))


def one_reading_statement(text: str, dialect: Dialect) -> str:
    """The text without its closing semicolon, refused unless it is one statement that begins as a reading one.

    This is the early and friendly refusal; the source's own session refuses again, with the database's authority.
    Raises StatementRefused with line and column.
    """
    _refuse_unfit(text)
    ended_at: int | None = None
    first: int | None = None
    for token in scan(text, dialect):
        piece = text[token.start : token.end]
        if token.kind == "end":
            ended_at = token.start if ended_at is None else ended_at
        elif token.kind == "comment" or not piece.strip():
            continue
        elif ended_at is not None:
            line, column = place(text, token.start + len(piece) - len(piece.lstrip()))
            raise StatementRefused(
                f"a second statement begins at line {line}, column {column}, where one is wanted.",
                "Take the statements one by one.",
                line=line,
                column=column,
            )
        elif first is None and piece.strip() != "(":
            first = token.start + len(piece) - len(piece.lstrip())
    _refuse_unless_reading(text, first, dialect)
    _refuse_side_effects(text, dialect)
    return text if ended_at is None else text[:ended_at] + text[ended_at:].replace(";", "")


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


def statements(text: str, dialect: Dialect) -> list[Part]:
    """The statements of an extract, parted by semicolons; each one's title is the first comment that stands before it.

    Raises StatementRefused, with line and column, unless each is one that only reads.
    """
    _refuse_unfit(text)
    found: list[Part] = []
    start, words, title = 0, False, ""
    for token in [*scan(text, dialect), Token("end", len(text), len(text))]:
        piece = text[token.start : token.end]
        if token.kind == "comment" and not words and not title:
            title = _title(piece)
        elif token.kind == "end":
            if words:
                blank = re.sub(r"[^\n]", " ", text[:start])
                found.append(
                    Part(title or f"statement {len(found) + 1}", blank + text[start : token.start], start, token.start)
                )
            start, words, title = token.end, False, ""
        elif piece.strip():
            words = True
    if not found:
        raise StatementRefused("the statement is empty.", "Write a statement that begins with select.")
    if len(found) > MAX_STATEMENTS:
        raise StatementRefused(
            f"there are {len(found)} statements; at most {MAX_STATEMENTS} are taken.",
            "Save some of them as extracts of their own.",
        )
    for part in found:
        one_reading_statement(part.text, dialect)
    return found


def _title(comment: str) -> str:
    words = comment.removeprefix("--").removeprefix("#").removeprefix("/*").removesuffix("*/").strip()
    return words.splitlines()[0].strip()[:MAX_TITLE] if words else ""


def _refuse_unfit(text: str) -> None:
    size = len(text.encode(errors="surrogatepass"))
    if size > MAX_STATEMENT_BYTES:
        raise StatementRefused(
            f"the statement has {size:,} bytes; at most {MAX_STATEMENT_BYTES:,} are taken.",
            "Keep the bulk of it in the database as a view, and select from that.",
            bytes=size,
        )
    unfit = _UNFIT.search(text)
    if unfit:
        line, column = place(text, unfit.start())
        what = "a NUL character" if unfit.group() == "\0" else "half of a character"
        raise StatementRefused(f"there is {what} at line {line}, column {column}.", "Remove it.", line=line, column=column)


def _refuse_unless_reading(text: str, start: int | None, dialect: Dialect) -> None:
    if start is None:
        raise StatementRefused("the statement is empty.", "Write a statement that begins with select.")
    word = _WORD.match(text, start)
    found = word.group().lower() if word else text[start]
    if found not in dialect.reading_words:
        line, column = place(text, start)
        raise StatementRefused(
            f"the statement begins with '{found}' at line {line}, column {column}; an extract only reads.",
            f"Begin it with {', '.join(dialect.reading_words[:-1])} or {dialect.reading_words[-1]}.",
            line=line,
            column=column,
        )


_CALL = re.compile(r"\b([^\W\d][\w$]*)\s*\(")


def _refuse_side_effects(text: str, dialect: Dialect) -> None:
    """Refuse by name what does more than read although it stands in a reading statement."""
    words: list[str] = []
    names: list[str] = []
    for token in scan(text, dialect):
        piece = text[token.start : token.end]
        blank = " " * len(piece)
        if token.kind == "comment" and dialect.executable_comments and piece[:3] in ("/*!", "/*M", "/*m"):
            raise _does_more(
                text, token.start, "a comment that the database would run", "Write it without the comment's marks."
            )
        if token.kind == "name" and text[max(token.start - 2, 0) : token.start].lower() == "u&":
            raise _does_more(text, token.start, "a name in Unicode escapes", "Write the name in its own letters.")
        words.append(piece if token.kind in ("text", "end") else blank)
        names.append(f" {piece[1:-1]} " if token.kind == "name" else words[-1])
    for call in _CALL.finditer("".join(names).lower()):
        if call.group(1) in dialect.refused_calls:
            raise _does_more(text, call.start(), f"a call of '{call.group(1)}'", "An extract only reads; take that part out.")
    code = "".join(words).lower()
    for phrase in dialect.refused_words:
        found = re.search(rf"\b{phrase.replace(' ', chr(92) + 's+')}\b", code)
        if found:
            raise _does_more(text, found.start(), f"'{phrase}'", "An extract only reads; take that part out.")


def _does_more(text: str, position: int, what: str, hint: str) -> StatementRefused:
    line, column = place(text, position)
    return StatementRefused(
        f"the statement does more than read: {what} at line {line}, column {column}.", hint, line=line, column=column
    )
