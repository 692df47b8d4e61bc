"""Words for days as people type them: read here for the rules of schedules and for date phrases alike.

Vocabulary, in small letters or any others; commas are as good as spaces::

    weekday      monday, mondays, mon, …
    month        january, jan, …
    ordinal      1st to 31st, first to fifth, last
    working day  working day(s), business day(s), workday(s)
    clock        06:30, 6:30, 6:30pm, 6 pm, noon, midnight
    which        last or previous, this or current, next or following
    edge         start or beginning, end

What could mean two things is refused with both written out, and a word is never mended into one of another meaning.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import time
from difflib import SequenceMatcher, get_close_matches
from typing import NoReturn, TypeVar

WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
MONTHS = (
    "january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november", "december",
)  # fmt: skip
UNITS = ("day", "week", "month", "quarter", "year")
WHICH = {"last": -1, "this": 0, "next": 1}
ORDINAL_WORDS = {"first": 1, "second": 2, "third": 3, "fourth": 4, "fifth": 5, "last": -1}
_SAME = {
    "beginning": "start", "begin": "start", "ending": "end", "previous": "last", "prev": "last", "prior": "last",
    "current": "this", "following": "next", "coming": "next", "upcoming": "next", "business": "working",
    "tues": "tue", "thur": "thu", "thurs": "thu", "sept": "sep", "plus": "+", "minus": "-", "–": "-", "&": "and",
    "through": "to", "till": "to", "until": "to",
}  # fmt: skip
_TWO = {"workday": "working day", "workdays": "working days", "businessday": "working day", "businessdays": "working days"}
_MEANINGS = {
    "start", "end", "first", "last", "this", "next", "ago", "before", "after", "yesterday", "today", "tomorrow", "working",
    *UNITS, *WEEKDAYS, *MONTHS,
}  # fmt: skip
_TOKEN = re.compile(
    r"\d{4}-w\d{2}(?:-\d)?\b|\d{4}-q\d\b|\d{4}-\d{2}(?:-\d{2})?\b|\d{1,2}[./]\d{1,2}[./]\d{2,4}\b|\d{1,2}:\d{2}(?:[ap]m\b)?"
    r"|\d+(?:st|nd|rd|th|am|pm)\b|q\d\b|\d+|@\w+|[^\W\d_]+|[^\s,]"
)
_CLOCK = re.compile(r"(\d{1,2})(?::(\d{2}))?([ap]m)?")
_NUMBERED = re.compile(r"(\d+)(?:st|nd|rd|th)")
_TIE = 0.05
"""Two words that are alike by so much less: *sonday* may be either day."""
_CLOSE = 0.75
"""Likeness of a word that is proposed; less than this proposes *monday* for *monthly*."""
T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Word:
    """One word: as it was given, what it stands for, and where it begins, from 0."""

    given: str
    text: str
    start: int


class Unfit(Exception):
    """A word, or the end, that does not fit: what would be right there, as words that can be proposed or in plain language.

    ``both``: the ways to say it that were meant, where it could mean two things.
    """

    def __init__(
        self, word: Word | None, expected: Iterable[str], known: Sequence[str] = (), why: str = "", both: Sequence[str] = ()
    ):
        super().__init__()
        self.word, self.expected, self.known, self.why, self.both = word, tuple(expected), tuple(known), why, tuple(both)

    def close(self) -> str | None:
        """The right word that was most probably meant."""
        return nearest_word(self.word.given, self.known or self.expected) if self.word else None


def nearest_word(given: str, known: Iterable[str]) -> str | None:
    """The known word most like the given one, or two that were written as one; none where that might cross meanings."""
    if _SAME.get(given, given) in _MEANINGS:
        return None
    for at in range(2, len(given) - 1):
        if {given[:at], given[at:]} <= _MEANINGS:
            return f"{given[:at]} {given[at:]}"
    found = get_close_matches(given, [each for each in known if " " not in each], n=2, cutoff=_CLOSE)
    likeness = [SequenceMatcher(None, given, each).ratio() for each in found]
    meant = {each.removesuffix("s") for each, like in zip(found, likeness, strict=True) if likeness[0] - like < _TIE}
    return found[0] if len(meant) == 1 else None


def meanings(text: str) -> list[str]:
    """The words of a text that decide what it means."""
    return [word.text for word in words_of(text) if word.text in _MEANINGS]


def words_of(text: str) -> list[Word]:
    """All words of a text."""
    made = []
    for found in _TOKEN.finditer(text.lower()):
        for part in _TWO.get(found.group(), found.group()).split():
            made.append(Word(found.group(), _SAME.get(part, part), found.start()))
    return made


class Words:
    """Takes words from left to right; each ``take`` and reading is of what stands next, and takes it only if it fits."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.found = words_of(text)
        self.at = 0

    def word(self, ahead: int = 0) -> str:
        """What stands next; empty at the end."""
        place = self.at + ahead
        return self.found[place].text if place < len(self.found) else ""

    def given(self) -> str:
        """As it was typed."""
        return self.found[self.at].given if self.at < len(self.found) else ""

    def take(self, *words: str) -> bool:
        """Take them if they stand next."""
        if all(self.word(n) == word for n, word in enumerate(words)):
            self.at += len(words)
            return True
        return False

    def take_any(self, *words: str) -> str:
        """Take one of them if it stands next; empty if none does."""
        word = self.word()
        if word and word in words:
            self.at += 1
            return word
        return ""

    def refuse(self, *expected: str, known: Sequence[str] = ()) -> NoReturn:
        """Raises Unfit at this place."""
        raise Unfit(self.found[self.at] if self.word() else None, expected, known)

    def ambiguous(self, why: str, *both: str, at: int = 0) -> NoReturn:
        """Raises Unfit for what could mean two things, at the word ``at``."""
        raise Unfit(self.found[at] if at < len(self.found) else None, (), why=why, both=both)

    def need(self, *words: str) -> str:
        """Take one of them. Raises Unfit."""
        return self.take_any(*words) or self.refuse(*words)

    def end(self, *expected: str) -> None:
        """Nothing may be left. Raises Unfit."""
        if self.word():
            self.refuse(*expected or ("the end",))

    def listed(self, one: Callable[[], T], more: Callable[[], bool]) -> list[T]:
        """What ``more`` finds next belongs to the list, as does what follows an *and*."""
        found = [one()]
        while self.take("and") or more():
            found.append(one())
        return found

    def is_weekday(self, ahead: int = 0) -> bool:
        """Whether a weekday stands there."""
        return _number_in(WEEKDAYS, self.word(ahead)) is not None

    def weekday(self) -> int | None:
        """0 for Monday."""
        return self._number_in(WEEKDAYS)

    def month(self) -> int | None:
        """1 for January."""
        number = self._number_in(MONTHS)
        return None if number is None else number + 1

    def is_month(self, ahead: int = 0) -> bool:
        """Whether a month stands there."""
        return _number_in(MONTHS, self.word(ahead)) is not None

    def ordinal(self) -> int | None:
        """1 for the first, -1 for the last."""
        word = self.word()
        numbered = _NUMBERED.fullmatch(word)
        if numbered is None and word not in ORDINAL_WORDS:
            return None
        self.at += 1
        return int(numbered[1]) if numbered else ORDINAL_WORDS[word]

    def working_day(self) -> bool:
        """Whether it was ``working day`` or one of its like."""
        return self.take("working", "day") or self.take("working", "days")

    def is_clock(self) -> bool:
        """Whether a time of day stands next; a bare number is none."""
        found = _CLOCK.fullmatch(self.word())
        return self.word() in ("noon", "midnight") or bool(found and (found[2] or found[3] or self.word(1) in ("am", "pm")))

    def clock(self) -> time:
        """A time of day. Raises Unfit."""
        if plain := self.take_any("noon", "midnight"):
            return time(12 if plain == "noon" else 0)
        found = _CLOCK.fullmatch(self.word()) if self.is_clock() else None
        if found is None:
            self.refuse("a time such as 06:30", known=("at", "each", "of", "and"))
        half = found[3] or (self.word(1) if self.word(1) in ("am", "pm") else "")
        hour, minute = int(found[1]), int(found[2] or 0)
        if (half and not 1 <= hour <= 12) or hour > 23 or minute > 59:
            self.refuse("a time from 12:00am to 11:59pm" if half else "a time from 00:00 to 23:59")
        self.at += 1 if found[3] or not half else 2
        return time(hour % 12 + 12 * (half == "pm") if half else hour, minute)

    def _number_in(self, names: Sequence[str]) -> int | None:
        number = _number_in(names, self.word())
        if number is not None:
            self.at += 1
        return number


def _number_in(names: Sequence[str], word: str) -> int | None:
    short = word.removesuffix("s") if names is WEEKDAYS and len(word) > 3 else word
    return next((n for n, name in enumerate(names) if short in (name, name[:3])), None) if word else None
