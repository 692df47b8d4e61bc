"""Cutting a statement's text into strings, quoted names, comments, parameters and the rest, as the database itself cuts it.

Rules and theory
----------------
* Two lexers that disagree are a hole: what one of them takes for a parameter stands, for the other, inside a string. So
  each dialect's rules below are its server's own, and a text on which two versions or settings of it could disagree is
  refused with its place. The tests hold generated texts against each server's word.
* Outside strings, quoted names and comments stand ASCII characters that a statement has a use for, and letters, marks and
  digits of other scripts (XID_Continue of Unicode's annex 31). Other white space, symbols and control characters are
  refused there: databases do not agree on them.
* One regular expression a dialect, whose alternatives cannot give back what they took: time grows with the text only.
"""

from __future__ import annotations

import re
import unicodedata
from functools import cache
from typing import Any, NamedTuple, NoReturn

from ..errors import StatementRefused
from .dialects import Dialect
from .parts import place, refused_at

MAX_TOKENS = 50_000
"""Strings, comments, parameters, brackets and what stands between them: a text of the largest size that has more of them is
generated, and cutting it would take longer than a person waits."""

MAX_DEPTH = 2_000
"""Brackets within brackets; no database reads deeper ones."""


class Token(NamedTuple):
    """``kind`` is text, string, name, comment, parameter, slice (``:n`` in ``a[1:n]``) or end (a semicolon)."""

    kind: str
    start: int
    end: int


_LETTER = r"A-Za-z_\u0080-\U0010ffff"
_NAMED = r"(?<![\w)\]$\u0080-\U0010ffff]):[^\W\d]\w*+(?![$'\"`\u0080-\U0010ffff])"
_FOREIGN = re.compile(r"[^\x00-\x7f]+")
_COMMENT_MARK = re.compile(r"/\*|\*/")
_GOES_ON = re.compile(r"(?:[ \t\f]|--[^\n\r]*+)*+[\n\r](?:[ \t\n\r\f]|--[^\n\r]*+[\n\r])*+'")
"""White space with a line break, then a quote: PostgreSQL's string goes on there, with its backslashes."""
_HINT = re.compile(r"/\*\+[\w ,()@.\t\n]*+\*/", re.ASCII)
"""A comment that some servers read as advice to their planner, as far as it can set nothing."""
_PLAIN_KINDS = frozenset({"string", "name", "comment", "end"})
"""Kinds that are what the pattern says, without a further look."""
_TAIL = 64
"""Characters before a bracket that are looked at for the word there; the words that matter are shorter."""
_BEFORE_LISTS = frozenset(
    [
        "array",
        "select",
        "in",
        "then",
        "else",
        "when",
        "and",
        "or",
        "not",
        "on",
        "by",
        "from",
        "as",
        "distinct",
        "all",
        "any",
        "some",
        "values",
        "having",
        "where",
        "with",
        "is",
        "like",
        "limit",
        "offset",
        "return",
        "case",
        "set",
        "over",
        "to",
    ]
)
"""Words after which a bracket begins a list; after any other it reaches into a value."""


def _doubled(mark: str) -> str:
    """From a mark to the next that is not written twice."""
    return f"{mark}[^{mark}]*+(?:{mark}{mark}[^{mark}]*+)*+{mark}"


def _escaped(mark: str) -> str:
    """The same, where a backslash takes the next character along."""
    return rf"{mark}(?:[^\\{mark}]|\\.|{mark}{mark})*+{mark}"


@cache
def _pattern(dialect: Dialect) -> re.Pattern[str]:
    """One alternative a kind of token, tried in order. Alternatives and repetitions are possessive: nothing is tried twice."""
    never = "(?!)"
    dash_space = r"(?:[ \t\n\r]|\Z)"
    is_maria = dialect.hash_comments
    if is_maria:
        # Names may begin with digits, and a number whose exponent is broken off swallows the character after it.
        odd = r"(?:[0-9]++\.[0-9]*+|\.[0-9]++)[eE](?![0-9]|[+-][0-9])|[0-9]++[eE][+-](?![0-9])"
        words = [rf"[0-9$_{_LETTER}]++"]
    else:
        # Servers do not agree on where a number ends that touches a letter: what would begin a string there is refused.
        odd = rf"[0-9][0-9._{_LETTER}]*+(?=['$])"
        words = [rf"[{_LETTER}][0-9${_LETTER}]*+", rf"[0-9][0-9._{_LETTER}]*+"]
        words[0] = rf"(?![eE]'){words[0]}" if dialect.escape_strings else words[0]
    marks = "+*<>=~!%&|,." + dialect.marks
    run = [
        r"[ \t\n]++", r"\r\n", *words, f"[{re.escape(marks)}]", r"/(?!\*)",
        rf"-(?!-{dash_space})" if is_maria else "-(?!-)", "::(?!:)" if dialect.double_colon_casts else never,
    ]  # fmt: skip
    line = r"(?:[^\n\r]|\r(?=\n))*+"
    strings = [(_escaped if dialect.backslash_escapes else _doubled)("'")]
    names = [_doubled("`")] if dialect.backtick_names else []
    names += [r"\[[^\]]*+\]"] if dialect.bracket_names else []
    if dialect.double_quoted_strings:
        strings.append(_escaped('"'))
    else:
        names.append(_doubled('"'))
    kinds = {
        "text": rf"(?:(?!{odd})(?:{'|'.join(run)}))++",
        "comment": (rf"--(?={dash_space}){line}|\#{line}" if is_maria else f"--{line}") + r"|/\*(?![!+Mm])[^*/]*+\*/",
        "block": r"/\*",
        "string": "|".join(strings),
        "name": "|".join(names),
        "parameter": _NAMED,
        "end": ";",
        "bracket": r"[()]++" if dialect.bracket_names else r"[()\[\]]++",
        "assign": ":=(?!:)" if dialect.assignments else never,
        "escaped": f"[eE]{_escaped(chr(39))}" if dialect.escape_strings else never,
        "dollar": rf"\$(?:[{_LETTER}][0-9{_LETTER}]*+)?\$" if dialect.dollar_quotes else never,
        "colon": ":",
    }
    return re.compile("|".join(f"(?P<{kind}>{form})" for kind, form in kinds.items()), re.DOTALL)


class _Scan:
    """One pass over one text; keeps the stack of open brackets to tell a slice from a parameter."""

    def __init__(self, text: str, dialect: Dialect) -> None:
        self.text, self.dialect = text, dialect
        self.found: list[Token] = []
        self.reaches: list[bool] = []
        """Of each open bracket: does it reach into a value?"""

    def tokens(self, at: int = 0) -> list[Token]:
        """From a position on, which must stand between two tokens."""
        text, found = self.text, self.found
        pattern: Any = _pattern(self.dialect)  # its scanner is not among the declared methods
        is_ascii, add, make = text.isascii(), found.append, Token._make
        while at < len(text):
            begun = at
            # Match after match, each where the one before ended: a search would look through the rest for what is not there.
            for match in iter(pattern.scanner(text, at).match, None):
                start, end = match.span()
                kind = match.lastgroup
                if kind == "text":
                    if not is_ascii:
                        self._refuse_foreign(start, end)
                elif kind not in _PLAIN_KINDS:
                    kind, real_end = self._special(str(kind), start, end)
                    if real_end != end:  # it goes on beyond what the pattern takes
                        add(make((kind, start, real_end)))
                        at = real_end
                        break
                add(make((kind, start, end)))
                at = end
                if len(found) > MAX_TOKENS:
                    what = f"the statement has more than {MAX_TOKENS:,} parts; the next begins"
                    raise refused_at(text, at, what, "Keep the bulk of it in the database as a view.")
            if at == begun:
                self._refuse(at)
        return found

    def _refuse_foreign(self, start: int, end: int) -> None:
        """Of other scripts, what a name can be made of passes."""
        for run in _FOREIGN.finditer(self.text, start, end):
            if not f"a{run.group()}".isidentifier():
                at, char = next((n, c) for n, c in enumerate(run.group()) if not f"a{c}".isidentifier())
                self._refuse_character(run.start() + at, char)

    def _special(self, kind: str, at: int, end: int) -> tuple[str, int]:
        text = self.text
        match kind:
            case "block":
                return "comment", self._block_end(at)
            case "bracket":
                self._mind_brackets(at, end)
            case "parameter":
                return "slice" if self._reaches() else "parameter", end
            case "escaped":
                if _GOES_ON.match(text, end):
                    what = "a string with backslashes goes on after a line break; it begins"
                    raise refused_at(text, at, what, "Write it as one string.")
                return "string", end
            case "dollar":
                tag = text[at:end]
                close = text.find(tag, end)
                if close < 0:
                    raise _unclosed(text, "string", at)
                return "string", close + len(tag)
            case "colon":
                self._mind_colon(at)
        return "text", end

    def _reaches(self) -> bool:
        return bool(self.reaches) and self.reaches[-1]

    def _block_end(self, at: int) -> int:
        text, dialect = self.text, self.dialect
        if (
            dialect.executable_comments
            and text[at + 2 : at + 3] in ("!", "M", "m")
            and re.match(r"/\*[Mm]?!", text[at : at + 4])
        ):
            raise refused_at(
                text, at, "the statement does more than read: a comment that the database would run",
                "Write it without the comment's marks.",
            )  # fmt: skip
        if dialect.executable_comments and text[at + 2 : at + 3] == "+" and not _HINT.match(text, at):
            raise refused_at(
                text, at, "a comment that the database reads as a hint may set something", "Take it out, or put a space first."
            )
        if not dialect.nested_comments:
            end = text.find("*/", at + 2)
            if end < 0:
                raise _unclosed(text, "comment", at)
            return end + 2
        depth = 0
        for found in _COMMENT_MARK.finditer(text, at):
            depth += 1 if found.group() == "/*" else -1
            if not depth:
                return found.end()
        raise _unclosed(text, "comment", at)

    def _mind_brackets(self, at: int, end: int) -> None:
        subscripts = self.dialect.subscripts
        for place_of, char in enumerate(self.text[at:end], at):
            if char in "([":
                self.reaches.append(subscripts and char == "[" and self._reaches_into_a_value(at, place_of))
                if len(self.reaches) > MAX_DEPTH:
                    what = f"brackets are nested deeper than {MAX_DEPTH:,}; the last begins"
                    raise refused_at(self.text, place_of, what, "Take some of them apart.")
            elif self.reaches:
                self.reaches.pop()

    def _reaches_into_a_value(self, run: int, at: int) -> bool:
        """By what stands before the bracket, but for blanks and comments."""
        if at > run:
            return self.text[at - 1] in ")]"
        for kind, start, end in reversed(self.found):
            if kind == "comment":
                continue
            if kind != "text":
                return kind != "end"
            piece = self.text[max(start, end - _TAIL) : end].rstrip()
            if piece:
                word = re.search(r"[\w$]+\Z", piece)
                return word.group().lower() not in _BEFORE_LISTS if word else piece[-1] in ")]}"
        return False

    def _mind_colon(self, at: int) -> None:
        """A colon that begins no parameter: between the bounds of a slice, or before a value in braces; else refused."""
        if self._reaches() or (self.dialect.loose_colons and not self.text.startswith("::", at)):
            return
        raise refused_at(
            self.text, at, "there is a colon that begins no parameter",
            "Write a parameter as :name, with a space or a mark before and after it.",
        )  # fmt: skip

    def _refuse(self, at: int) -> NoReturn:
        """What no alternative takes."""
        text, char = self.text, self.text[at]
        if char == "'" or (char in "eE" and text[at + 1 : at + 2] == "'") or (
            char == '"' and self.dialect.double_quoted_strings
        ):  # fmt: skip
            raise _unclosed(text, "string", at)
        if char == '"' or (char == "`" and self.dialect.backtick_names) or (char == "[" and self.dialect.bracket_names):
            raise _unclosed(text, "quoted name", at)
        if char == "$" and text[at + 1 : at + 2].isdigit():
            raise refused_at(text, at, "there is a numbered parameter", "Write parameters as :name.")
        if char == "?":
            raise refused_at(text, at, "there is a question mark outside a string", "Write parameters as :name.")
        if char.isdigit() or char == ".":
            raise refused_at(
                text, at, "there is a number that runs into what follows it", "Put a space after the number."
            )  # fmt: skip
        self._refuse_character(at, char)

    def _refuse_character(self, at: int, char: str) -> NoReturn:
        name = unicodedata.name(char, "") or {"\r": "a carriage return without a line feed"}.get(char, f"U+{ord(char):04X}")
        shown = f"the character '{char}'" if char.isprintable() and not char.isspace() else name.lower()
        raise refused_at(
            self.text, at, f"{shown} stands outside strings, names and comments",
            "Take it out, or put the name that has it in quotes.",
        )  # fmt: skip


def _unclosed(text: str, what: str, start: int) -> StatementRefused:
    line, column = place(text, start)
    return StatementRefused(
        f"the {what} that begins at line {line}, column {column} is never closed.",
        "Close it, or remove its opening mark.",
        line=line,
        column=column,
        unclosed=what,
    )


def scan(text: str, dialect: Dialect) -> list[Token]:
    """Cut the text into tokens that cover it without a gap; of kinds text, string, name, comment, parameter, slice and end.

    Raises StatementRefused at what is never closed, and at what databases could cut in more than one way.
    """
    return _Scan(text, dialect).tokens()


MOST_FAULTS = 20
"""What stands after so many faults of a text that is being written is not looked at."""


def scan_unfinished(text: str, dialect: Dialect) -> tuple[list[Token], str]:
    """The tokens of a text that somebody is writing, and what is never closed in it: string, comment, quoted name or nothing.

    What is never closed goes on to the end; other faults are passed over.
    """
    made, at = _Scan(text, dialect), 0
    for _ in range(MOST_FAULTS):
        try:
            return made.tokens(at), ""
        except StatementRefused as error:
            end, unclosed = made.found[-1].end if made.found else 0, str(error.facts.get("unclosed", ""))
            fault = max(end, _position(text, error.facts["line"], error.facts["column"]))
            if fault > end:
                made.found.append(Token("text", end, fault))
            if unclosed:
                made.found.append(Token("comment" if unclosed == "comment" else "string", fault, len(text)))
                return made.found, unclosed
            at = min(fault + 1, len(text))
            made.found.append(Token("text", fault, at))
    return made.found, ""


def _position(text: str, line: int, column: int) -> int:
    start = 0
    for _ in range(line - 1):
        start = text.index("\n", start) + 1
    return start + column - 1
