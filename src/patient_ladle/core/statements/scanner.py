"""Parameters, statement ends and the gate: what a statement's text holds, without understanding it.

A parameter is ``:name``, the *named* style of PEP 249. Strings, quoted names, comments, ``::`` casts, ``:=`` and array
slices are left alone. Positions are 0-based code points into the text; ``place`` turns one into line and column.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cache

from ..errors import StatementRefused
from .dialects import Dialect
from .lexing import Token, scan
from .parts import MAX_STATEMENTS, MAX_TITLE, Part, Rendered, place, refuse_unfit, refused_at, replaced


def parameter_names(text: str, dialect: Dialect) -> list[str]:
    """Names of the parameters used, each once, in the order of their first use."""
    return list(dict.fromkeys(text[t.start + 1 : t.end] for t in scan(text, dialect) if t.kind == "parameter"))


def refuse_slices(text: str, dialect: Dialect, declared: Iterable[str]) -> None:
    """A declared parameter in brackets, after their opening or a colon, is a bound of a slice to the database.

    Raises StatementRefused with its place and the form that is a parameter.
    """
    names = set(declared)
    for token in scan(text, dialect):
        name = text[token.start + 1 : token.end]
        if token.kind == "slice" and name in names:
            what = f"':{name}' is read as the bound of a slice, not as the parameter,"
            raise refused_at(text, token.start, what, f"Put it in parentheses: (:{name}).")


def replace_parameters(text: str, dialect: Dialect, put: Callable[[str], str]) -> Rendered:
    """The text with ``put(name)`` in place of each parameter; all else stays to the letter."""
    return replaced(text, ((token.start, token.end) for token in scan(text, dialect) if token.kind == "parameter"), put)


def one_reading_statement(text: str, dialect: Dialect) -> str:
    """The text without its closing semicolon, refused unless it is one statement that begins as a reading one.

    This is the early and friendly refusal; the source's own session refuses again, with the database's authority.
    Raises StatementRefused with line and column.
    """
    refuse_unfit(text)
    tokens: list[Token] = []
    ended_at: int | None = None
    for token in scan(text, dialect):
        if token.kind == "end":
            ended_at = token.start if ended_at is None else ended_at
        elif ended_at is None:
            tokens.append(token)
        elif token.kind != "comment" and not text[token.start : token.end].isspace():
            piece = text[token.start : token.end]
            raise refused_at(
                text,
                token.start + len(piece) - len(piece.lstrip()),
                "a second statement begins where one is wanted",
                "Take the statements one by one.",
            )
    _refuse_unless_it_reads(text, tokens, dialect)
    return text if ended_at is None else text[:ended_at] + text[ended_at:].replace(";", "")


def statements(text: str, dialect: Dialect) -> list[Part]:
    """The statements of an extract, separated by semicolons; each one's title is the first comment that stands before it.

    Raises StatementRefused, with line and column, unless each is one that only reads.
    """
    refuse_unfit(text)
    found: list[Part] = []
    start, words, title, blank = 0, False, "", ""
    tokens: list[Token] = []
    for token in _with_end(scan(text, dialect), len(text)):
        piece = text[token.start : token.end]
        if token.kind == "comment" and not words and not title:
            title = _title(piece)
        elif token.kind == "end":
            if words:
                if len(found) == MAX_STATEMENTS:
                    raise refused_at(
                        text,
                        start,
                        f"there are more than {MAX_STATEMENTS} statements: the next begins",
                        "Save some of them as extracts of their own.",
                    )
                _refuse_unless_it_reads(text, tokens, dialect)
                name = title or f"statement {len(found) + 1}"
                found.append(Part(name, blank + text[start : token.start], start, token.start))
            blank += _NO_BREAK.sub(" ", text[start : token.end])
            start, words, title, tokens = token.end, False, "", []
            continue
        elif token.kind != "comment" and not piece.isspace():
            words = True
        tokens.append(token)
    if not found:
        raise StatementRefused("the statement is empty.", "Write a statement that begins with select.")
    return found


def _with_end(tokens: Iterable[Token], length: int) -> Iterator[Token]:
    yield from tokens
    yield Token("end", length, length)


_NO_BREAK = re.compile(r"[^\n]")


def _title(comment: str) -> str:
    words = comment.removeprefix("--").removeprefix("#").removeprefix("/*").removesuffix("*/").strip()
    return words.splitlines()[0].strip()[:MAX_TITLE] if words else ""


_CALL = re.compile(r"(?<![\w$])([^\W\d][\w$]*+)\s*+\(")
_SETTING = re.compile(r"\s*+'(\w++)'\s*+[,)]")
_PARENTHESES = re.compile(r"\(++|\)++")
_WRITES = re.compile(r"\(\s*+(insert|update|delete|merge|replace|truncate)\s++[\w\"`:]", re.IGNORECASE)
_FIRST = re.compile(r"[^\s(]")
_WORD = re.compile(r"[^\W\d]\w*+")
_NO_MORE = "An extract only reads; take that part out."


class _Code:
    """A statement's text for the gate, place for place: comments blank, strings and parameters filled, so that no word of
    theirs counts; ``code`` has quoted names filled too, in ``named`` they stand without their quotes."""

    def __init__(self, text: str, tokens: Sequence[Token]) -> None:
        self.start = tokens[0].start if tokens else 0
        code: list[str] = []
        names: list[tuple[int, int]] = []
        for kind, start, end in tokens:
            if kind == "text":
                code.append(text[start:end])
            else:
                code.append(_FILL[kind] * (end - start))
                if kind == "name":
                    names.append((start, end))
        self.code = self.named = "".join(code)
        if names:
            named, at = [], 0
            for start, end in names:
                named += [self.code[at : start - self.start], " ", text[start + 1 : end - 1], " "]
                at = end - self.start
            self.named = "".join([*named, self.code[at:]])


_FILL = {"comment": " ", "string": "'", "parameter": ":", "slice": ":", "name": '"', "end": ";"}


@cache
def _refusals(dialect: Dialect) -> tuple[re.Pattern[str], re.Pattern[str]]:
    """The dialect's refused phrases, and its refused names; each matches whole words."""

    def any_of(words: Iterable[str], between: str, mark: str) -> re.Pattern[str]:
        forms = [mark.join(map(re.escape, each.split(between))).removesuffix(r"\s*+") for each in sorted(words)]
        return re.compile(rf"(?<![\w$])(?:{'|'.join(forms) or '(?!)'})(?:(?<=\.)|(?![\w$]))", re.IGNORECASE)

    return any_of(dialect.refused_words, " ", r"\s++"), any_of(dialect.refused_names, ".", r"\s*+\.\s*+")


def _refuse_unless_it_reads(text: str, tokens: Sequence[Token], dialect: Dialect) -> None:
    """Refuse, by first word and by name, what does more than read although it may stand in a reading statement."""
    seen = _Code(text, tokens)

    def more(at: int, what: str, hint: str = _NO_MORE) -> StatementRefused:
        return refused_at(text, seen.start + at, f"the statement does more than read: {what}", hint)

    _refuse_first(text, seen, dialect)
    _refuse_unpaired(text, seen)
    writes = _WRITES.search(seen.code)
    if writes:
        raise more(writes.start(1), f"'{writes.group(1).lower()}'")
    escaped = _UNICODE_NAME.search(seen.code)
    if escaped:
        raise more(escaped.start(), "a name in Unicode escapes", "Write the name in its own letters.")
    phrases, names = _refusals(dialect)
    phrase = phrases.search(seen.code)
    if phrase:
        raise more(phrase.start(), f"'{' '.join(phrase.group().lower().split())}'")
    for call in _CALL.finditer(seen.named):
        if call.group(1).lower() in dialect.refused_calls:
            raise more(call.start(), f"a call of '{call.group(1).lower()}'")
        if call.group(1).lower() == dialect.setting_call:
            asked = _SETTING.match(text, seen.start + call.end())
            if asked is None or asked.group(1).lower() not in dialect.told_settings:
                raise more(call.start(), f"a call of '{dialect.setting_call}' for a setting that tells of the server")
    told = names.search(seen.named)
    if told:
        raise more(told.start(), f"'{told.group().lower()}', which tells of the server")


_UNICODE_NAME = re.compile(r'(?<![\w$])[uU]&"')


def _refuse_first(text: str, seen: _Code, dialect: Dialect) -> None:
    first = _FIRST.search(seen.code)
    if first is None:
        raise StatementRefused("the statement is empty.", "Write a statement that begins with select.")
    word = _WORD.match(seen.code, first.start())
    found = word.group().lower() if word else text[seen.start + first.start()]
    if found not in dialect.reading_words:
        line, column = place(text, seen.start + first.start())
        words = dialect.reading_words
        raise StatementRefused(
            f"the statement begins with '{found}' at line {line}, column {column}; an extract only reads.",
            f"Begin it with {', '.join(words[:-1])} or {words[-1]}.",
            line=line,
            column=column,
        )


def _refuse_unpaired(text: str, seen: _Code) -> None:
    """Parentheses that are not paired could reach beyond what the service puts around a statement."""
    depth = 0
    for run in _PARENTHESES.finditer(seen.code):
        length = run.end() - run.start()
        depth += length if run.group()[0] == "(" else -length
        if depth < 0:
            at = seen.start + run.end() + depth
            raise refused_at(text, at, "there is a closing parenthesis too many", "Take it out, or open it before.")
    if depth:
        raise StatementRefused(f"the statement leaves {depth} of its parentheses open.", "Close each of them where it belongs.")
