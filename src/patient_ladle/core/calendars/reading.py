"""A rule's text: five crontab fields, or plain words.

Rules and theory
----------------
* ``daily 06:30`` · ``weekdays 06:30`` · ``mondays and thursdays 06:30 and 18:00`` · ``working days 07:00``
* ``daily 07:00 to 19:00 each 15 minutes`` · ``weekdays each 2 hours``
* ``1st and 15th 05:00`` · ``last day 23:30`` · ``last friday 18:00`` · ``1st and 3rd monday 08:00``
* ``3rd working day 07:00`` · ``last working day 16:00``
* ``of january, april and july`` after the days narrows them; ``or next working day`` moves those on which nobody works.
* Ordinals wait for the word they count: in *1st and 3rd monday* both count Mondays; alone they are days of the month.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, time, timezone
from functools import lru_cache
from typing import TypeVar

from cronsim import CronSim, CronSimError

from ..errors import BadInput, nearest
from .days import Days, EveryWorkingDay, MonthDay, NthWeekday, NthWorkingDay, Weekdays

WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
MONTHS = (
    "january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november", "december",
)  # fmt: skip
FORMS = (
    "daily 06:30",
    "weekdays 06:30",
    "mondays and thursdays 06:30 and 18:00",
    "daily 07:00 to 19:00 each 15 minutes",
    "1st and 15th 05:00",
    "1st or next working day 05:00",
    "3rd working day 07:00",
    "last friday 18:00",
    "last day of march, june, september and december 23:00",
    "30 6 * * 1-5",
)
"""One of each form, for hints and for whoever chooses."""
HINT = f"Write it as one of these: {'; '.join(FORMS[:8])}; or five crontab fields, as in '{FORMS[-1]}'."
_ORDINAL_WORDS = {"first": 1, "second": 2, "third": 3, "fourth": 4, "fifth": 5}
_TOKEN = re.compile(r"\d{1,2}:\d{2}|\d+[a-z]*|[a-z]+|[^\s,]")
_CRONTAB = re.compile(r"[0-9*,/a-z#l-]+", re.I)
_DAY_MINUTES = 24 * 60
T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Crontab:
    """Five fields, as ``cronsim`` reads them."""

    text: str


@dataclass(frozen=True, slots=True)
class Each:
    """Wall times from one to another, so many minutes apart."""

    start: time
    end: time
    minutes: int

    def times(self) -> list[time]:
        first, last = (t.hour * 60 + t.minute for t in (self.start, self.end))
        return [time(n // 60, n % 60) for n in range(first, last + 1, self.minutes)]


@dataclass(frozen=True, slots=True)
class PlainRule:
    """What the words say. ``times`` are fixed wall times, or ``each`` names many."""

    days: tuple[Days, ...]
    months: frozenset[int]
    to_working_day: bool
    times: tuple[time, ...]
    each: Each | None


@lru_cache(4096)
def read_rule(text: str) -> Crontab | PlainRule:
    """The rule of that text. Raises BadInput naming the column."""
    fields = text.split()
    if ":" not in text and len(fields) == 5 and all(_CRONTAB.fullmatch(field) for field in fields):
        return _crontab(text)
    if ":" not in text and fields and re.match(r"[\d*]", fields[0]) and not re.match(r"\d+(st|nd|rd|th)", fields[0]):
        raise BadInput(f"the rule '{text}' has {len(fields)} fields; a crontab rule has five.", HINT)
    return _Reader(text).rule()


def _crontab(text: str) -> Crontab:
    try:
        next(CronSim(text, datetime(2026, 1, 1, tzinfo=timezone.utc)))
    except (CronSimError, StopIteration) as error:
        reason = str(error) or "it names no moment in the next fifty years"
        raise BadInput(
            f"the rule '{text}' cannot be read: {reason}.",
            "Write minute, hour, day of month, month, day of week: '30 6 * * 1-5' is 06:30 on weekdays.",
        ) from error
    return Crontab(text)


def _singular(word: str) -> str:
    return word.removesuffix("s")


class _Reader:
    """Takes the words from left to right."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.found = [(match.group(), match.start() + 1) for match in _TOKEN.finditer(text.lower())]
        self.at = 0

    def word(self, ahead: int = 0) -> str:
        """The one that stands next; empty at the end."""
        place = self.at + ahead
        return self.found[place][0] if place < len(self.found) else ""

    def take(self, *words: str) -> bool:
        """Take them if they stand next."""
        if all(self.word(n) == word for n, word in enumerate(words)):
            self.at += len(words)
            return True
        return False

    def refuse(self, wanted: str, known: Sequence[str] = ()) -> BadInput:
        """The error at this place."""
        word = self.word()
        column = self.found[self.at][1] if word else len(self.text) + 1
        given = f"'{word}' at column {column}" if word else "the end"
        close = nearest(word, known) if word else None
        hint = f"Did you mean '{close}'? {HINT}" if close else HINT
        return BadInput(f"the rule '{self.text}': {wanted} was expected, not {given}.", hint, column=column)

    def rule(self) -> PlainRule:
        days = tuple(self._days())
        months = frozenset(self._months())
        moved = self.take("or", "next", "working", "day")
        self.take("at")
        each = self._each()
        times = () if each else tuple(sorted(set(self._listed(self._time, lambda: ":" in self.word()))))
        if self.word():
            raise self.refuse("the end")
        return PlainRule(days, months, moved, times, each)

    def _listed(self, one: Callable[[], T], more: Callable[[], bool]) -> list[T]:
        """Commas are not words: what ``more`` finds next belongs to the list, as does what follows an *and*."""
        found = [one()]
        while self.take("and") or more():
            found.append(one())
        return found

    def _days(self) -> list[Days]:
        if self.take("daily") or self.take("every", "day"):
            return [Weekdays(frozenset(range(7)))]
        found: list[Days] = []
        waiting: list[int] = []
        while True:
            if (number := self._ordinal()) is not None:
                waiting.append(number)
            else:
                found += self._noun(waiting)
                waiting = []
            if not (self.take("and") or self._more_days()):
                break
        if -1 in waiting:
            raise self.refuse("what the last one is of, such as 'friday' or 'working day',", [*WEEKDAYS, "working", "day"])
        return found + [MonthDay(number) for number in waiting]

    def _more_days(self) -> bool:
        word = self.word()
        return bool(word) and (
            _singular(word) in (*WEEKDAYS, *(day[:3] for day in WEEKDAYS), "weekday", "weekend", "day")
            or word in ("working", "last", *_ORDINAL_WORDS)
            or bool(re.fullmatch(r"\d+(st|nd|rd|th)", word))
        )

    def _ordinal(self) -> int | None:
        word = self.word()
        if word == "last":
            number = -1
        elif word in _ORDINAL_WORDS:
            number = _ORDINAL_WORDS[word]
        elif match := re.fullmatch(r"(\d+)(st|nd|rd|th)", word):
            number = int(match.group(1))
            if not 1 <= number <= 31:
                raise self.refuse("a day from 1st to 31st")
        else:
            return None
        self.at += 1
        return number

    def _noun(self, ordinals: list[int]) -> list[Days]:
        word = _singular(self.word())
        weekday = next((n for n, day in enumerate(WEEKDAYS) if word in (day, day[:3])), None)
        if weekday is not None:
            self.at += 1
            return [NthWeekday(n, weekday) for n in ordinals] or [Weekdays(frozenset({weekday}))]
        if self.take("working", "day") or self.take("working", "days"):
            return [NthWorkingDay(n) for n in ordinals] or [EveryWorkingDay()]
        if word == "day" and ordinals:
            self.at += 1
            return [MonthDay(n) for n in ordinals]
        if word in ("weekday", "weekend") and not ordinals:
            self.at += 1
            return [Weekdays(frozenset(range(5) if word == "weekday" else (5, 6)))]
        known = (
            *WEEKDAYS,
            *(f"{day}s" for day in WEEKDAYS),
            "daily",
            "weekdays",
            "weekends",
            "working",
            *_ORDINAL_WORDS,
            "last",
        )
        raise self.refuse("a day", known)

    def _month_number(self) -> int | None:
        word = self.word()
        return next((n for n, month in enumerate(MONTHS, 1) if word in (month, month[:3])), None)

    def _months(self) -> list[int]:
        if not self.take("of"):
            return []
        return self._listed(self._month, lambda: self._month_number() is not None)

    def _month(self) -> int:
        number = self._month_number()
        if number is None:
            raise self.refuse("a month", MONTHS)
        self.at += 1
        return number

    def _time(self) -> time:
        match = re.fullmatch(r"(\d{1,2}):(\d{2})", self.word())
        if not match:
            raise self.refuse("a time such as 06:30", ("at", "each", "of", "and"))
        hour, minute = int(match.group(1)), int(match.group(2))
        if hour > 23 or minute > 59:
            raise self.refuse("a time from 00:00 to 23:59")
        self.at += 1
        return time(hour, minute)

    def _each(self) -> Each | None:
        if self.word() in ("each", "every"):
            return Each(time(0, 0), time(23, 59), self._minutes())
        if self.word(1) != "to":
            return None
        start = self._time()
        self.take("to")
        end = self._time()
        if end <= start:
            self.at -= 1
            raise self.refuse(f"a time after {start:%H:%M}")
        return Each(start, end, self._minutes())

    def _minutes(self) -> int:
        if not (self.take("each") or self.take("every")):
            raise self.refuse("'each' and a number of minutes or hours", ("each",))
        number = 1
        if self.word().isascii() and self.word().isdigit():
            number = int(self.word())
            self.at += 1
        unit = _singular(self.word())
        if unit not in ("minute", "hour"):
            raise self.refuse("minutes or hours", ("minutes", "hours"))
        minutes = number * (60 if unit == "hour" else 1)
        if not 1 <= minutes < _DAY_MINUTES:
            raise self.refuse("from 1 minute to less than a day")
        self.at += 1
        return minutes
