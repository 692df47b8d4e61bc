"""Dates said relative to the data date: ``start of last month``, ``today - 7 days``, ``3rd working day of this month``.

Grammar, in small letters or any others, words apart by white space::

    phrase  = moment { ("+" | "-") count unit } [ "at" hh:mm ]
    moment  = "today" | "yesterday" | "tomorrow" | yyyy-mm-dd
            | ("start" | "end") "of" period
            | weekday "of" ("this" | "last" | "next") "week"
            | ("first" | "last" | 1st, 2nd, …) ("day" | "working day" | weekday) "of" period
    period  = ("this" | "last" | "next") ("week" | "month" | "quarter" | "year")
            | month [ "of" ("this" | "last" | "next") "year" ]
    unit    = day(s) | working day(s) | week(s) | month(s) | quarter(s) | year(s)

Weeks begin on Monday. Working days are Monday to Friday. A month or year added to a day that the other month lacks gives
that month's last day (29 February less a year is 28 February). ``at`` is for timestamps, which otherwise stand at 00:00;
they are wall-clock time in the schedule's zone, so a night that skips an hour takes nothing away from them.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from difflib import get_close_matches

from .errors import BadInput, nearest

WEEKDAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
MONTHS = (
    "january", "february", "march", "april", "may", "june", "july", "august", "september", "october", "november", "december",
)  # fmt: skip
UNITS = ("day", "week", "month", "quarter", "year")
WHICH = {"last": -1, "this": 0, "next": 1}
MAX_COUNT = 40_000
"""Days that a phrase may count: a century and more."""

EXAMPLES = (
    "today", "yesterday", "tomorrow", "start of this month", "end of this month", "start of last month", "end of last month",
    "start of next month", "start of this quarter", "end of this quarter", "start of last quarter", "end of last quarter",
    "start of this year", "end of this year", "start of last year", "end of last year", "start of this week",
    "end of this week", "start of last week", "end of last week", "monday of last week", "friday of this week",
    "sunday of last week",    "first day of last month", "last working day of last month",
    "3rd working day of this month", "first monday of this month",
    "last friday of last month", "start of january", "end of february of last year", "today - 7 days", "today - 1 month",
    "today - 5 working days", "today + 1 year", "start of this month - 1 day", "start of last month at 06:30",
)  # fmt: skip
"""Phrases to show to people, and to find the nearest right one among."""

_TOKEN = re.compile(r"\d{4}-\d{2}-\d{2}|\d{1,2}:\d{2}|\d+(?:st|nd|rd|th)\b|\d+|[^\W\d_]+|[+-]|\S")
_ORDINAL = re.compile(r"(\d+)(?:st|nd|rd|th)")


@dataclass(frozen=True, slots=True)
class _Word:
    text: str
    start: int


class _Unfit(Exception):
    def __init__(self, word: _Word | None, expected: Iterable[str]) -> None:
        super().__init__()
        self.word, self.expected = word, tuple(expected)


def _month_of(day: date, months: int) -> date:
    """First day of the month that many months away."""
    number = day.year * 12 + day.month - 1 + months
    return date(number // 12, number % 12 + 1, 1)


def _last_day(first: date) -> date:
    return _month_of(first, 1) - timedelta(days=1)


def _moved(day: date, months: int) -> date:
    first = _month_of(day, months)
    return first.replace(day=min(day.day, _last_day(first).day))


def _working(day: date) -> bool:
    return day.weekday() < 5


def _working_days_on(day: date, count: int) -> date:
    step = timedelta(days=1 if count > 0 else -1)
    for _ in range(abs(count)):
        day += step
        while not _working(day):
            day += step
    return day


def _added(day: date, count: int, unit: str) -> date:
    if unit == "working day":
        return _working_days_on(day, count)
    if unit in ("day", "week"):
        return day + timedelta(days=count * (7 if unit == "week" else 1))
    return _moved(day, count * {"month": 1, "quarter": 3, "year": 12}[unit])


def _period(today: date, unit: str, which: int) -> tuple[date, date]:
    """First and last day of this, the last or the next week, month, quarter or year."""
    if unit == "week":
        first = today - timedelta(days=today.weekday() - 7 * which)
        return first, first + timedelta(days=6)
    length = {"month": 1, "quarter": 3, "year": 12}[unit]
    into = (today.month - 1) % length
    first = _month_of(today, which * length - into)
    return first, _month_of(first, length) - timedelta(days=1)


class _Reader:
    """Reads one phrase, word by word; every refusal knows its word and what would have been right there."""

    def __init__(self, words: list[_Word], today: date) -> None:
        self.words, self.today, self.at = words, today, 0

    def peek(self) -> str:
        return self.words[self.at].text if self.at < len(self.words) else ""

    def take(self, *expected: str) -> str:
        found = self.peek()
        if found not in expected:
            raise _Unfit(self.words[self.at] if found else None, expected)
        self.at += 1
        return found

    def count(self) -> int:
        found = self.peek()
        if not (found.isascii() and found.isdigit()) or int(found) > MAX_COUNT:
            raise _Unfit(self.words[self.at] if found else None, [f"a count up to {MAX_COUNT:,}"])
        self.at += 1
        return int(found)

    def phrase(self) -> tuple[date, time | None]:
        day, clock = self.moment(), None
        while self.peek() in ("+", "-"):
            sign = -1 if self.take("+", "-") == "-" else 1
            day = _added(day, sign * self.count(), self.unit())
        if self.peek() == "at":
            self.at += 1
            clock = self.clock()
        self.end("+", "-", "at")
        return day, clock

    def end(self, *expected: str) -> None:
        if self.peek():
            raise _Unfit(self.words[self.at], expected)

    def clock(self) -> time:
        found = self.peek()
        try:
            made = time.fromisoformat(found.zfill(5)) if ":" in found else None
        except ValueError:
            made = None
        if made is None:
            raise _Unfit(self.words[self.at] if found else None, ["a time such as 06:30"])
        self.at += 1
        return made

    def unit(self) -> str:
        if self.peek() == "working":
            self.at += 1
            self.take("day", "days")
            return "working day"
        return self.take(*UNITS, *(f"{unit}s" for unit in UNITS), "working").rstrip("s")

    def moment(self) -> date:
        found = self.peek()
        if re.fullmatch(r"\d{4}-\d{2}-\d{2}", found):
            try:
                day = date.fromisoformat(found)
            except ValueError:
                raise _Unfit(self.words[self.at], ["a day that the calendar has"]) from None
            self.at += 1
            return day
        if found in WEEKDAYS:
            self.at += 1
            self.take("of")
            which = WHICH[self.take(*WHICH)]
            first, _ = _period(self.today, self.take("week"), which)
            return first + timedelta(days=WEEKDAYS.index(found))
        ordinal = _ORDINAL.fullmatch(found)
        if ordinal or found in ("first", "last"):
            self.at += 1
            return self.counted(int(ordinal.group(1)) if ordinal else 1 if found == "first" else -1)
        plain = {"today": 0, "yesterday": -1, "tomorrow": 1}
        word = self.take(*plain, "start", "end", "first", "last", *WEEKDAYS)
        if word in plain:
            return self.today + timedelta(days=plain[word])
        self.take("of")
        first, last = self.period()
        return first if word == "start" else last

    def counted(self, number: int) -> date:
        """``first``, ``last`` or the n-th day, working day or weekday of a period."""
        at = self.at - 1
        kind = self.take("day", "working", *WEEKDAYS)
        if kind == "working":
            self.take("day")
        self.take("of")
        first, last = self.period()
        fits: Callable[[date], bool] = {"day": lambda day: True, "working": _working}.get(
            kind, lambda day: WEEKDAYS[day.weekday()] == kind
        )
        days = [day for day in (first + timedelta(days=n) for n in range((last - first).days + 1)) if fits(day)]
        if number == 0 or number > len(days):
            raise _Unfit(self.words[at], [f"1st to {len(days)}th: there are {len(days)} in that period"])
        return days[number - 1 if number > 0 else -1]

    def period(self) -> tuple[date, date]:
        word = self.take(*WHICH, *MONTHS)
        if word in WHICH:
            return _period(self.today, self.take("week", "month", "quarter", "year"), WHICH[word])
        year = self.today.year
        if self.peek() == "of":
            self.at += 1
            year += WHICH[self.take(*WHICH)]
            self.take("year")
        first = date(year, MONTHS.index(word) + 1, 1)
        return first, _last_day(first)


def _nearest_phrase(text: str, unfit: _Unfit) -> str | None:
    """A right phrase: the given one with its wrong word mended, or an example like it."""
    if unfit.word is not None:
        close = nearest(unfit.word.text, unfit.expected)
        if close:
            mended = text[: unfit.word.start] + close + text[unfit.word.start + len(unfit.word.text) :]
            if is_phrase(mended):
                return mended
    if any(" " in each for each in unfit.expected):
        return None  # what would be right there was said in words
    found = get_close_matches(" ".join(text.lower().split()), EXAMPLES, n=1, cutoff=0.8)
    return found[0] if found else None


def read_phrase(text: str, today: date) -> tuple[date, time | None]:
    """The day that a phrase means on a data date, and the clock time if it names one.

    Raises BadInput with line, column, what would be right there, and the nearest right phrase.
    """
    words = [_Word(found.group(), found.start()) for found in _TOKEN.finditer(text.lower())]
    try:
        return _Reader(words, today).phrase()
    except _Unfit as unfit:
        start = unfit.word.start if unfit.word else len(text.rstrip())
        line, column = text[:start].count("\n") + 1, start - (text.rfind("\n", 0, start) + 1) + 1
        found = f"'{unfit.word.text}'" if unfit.word else "its end"
        close = _nearest_phrase(text, unfit)
        expected = ", ".join(unfit.expected[:8]) + (", …" if len(unfit.expected) > 8 else "")
        raise BadInput(
            f"'{text}' is not a date phrase: {found} at line {line}, column {column} does not fit.",
            f"Did you mean '{close}'?" if close else f"There it takes: {expected}.",
            line=line,
            column=column,
            expected=list(unfit.expected),
        ) from None
    except (OverflowError, ValueError):
        raise BadInput(f"'{text}' leads out of the calendar.", "Count fewer days.", line=1, column=1) from None


def is_phrase(text: str) -> bool:
    """Whether it can be read at all."""
    try:
        read_phrase(text, date(2024, 2, 29))
    except BadInput:
        return False
    return True


def read_period(text: str, today: date) -> tuple[date, date]:
    """First and last day of ``last month``, ``january of last year``, or of two phrases with ``to`` between them.

    Raises BadInput.
    """
    first, between, last = text.partition(" to ")
    if between:
        return date_of(first, today), date_of(last, today)
    reader = _Reader([_Word(found.group(), found.start()) for found in _TOKEN.finditer(text.lower())], today)
    try:
        made = reader.period()
        reader.end()
    except (_Unfit, OverflowError, ValueError):
        raise BadInput(
            f"'{text}' is not a period.", "Write 'last month', 'this quarter', or two dates or phrases with 'to' between them."
        ) from None
    return made


def date_of(text: str, today: date) -> date:
    """The date that a phrase means. Raises BadInput, also for one with a clock time."""
    day, clock = read_phrase(text, today)
    if clock is not None:
        raise BadInput(f"'{text}' names a time of day, which a date has not.", "Leave out 'at …', or declare a timestamp.")
    return day


def timestamp_of(text: str, today: date) -> datetime:
    """The wall-clock moment that a phrase means: at 00:00 unless it says otherwise. Raises BadInput."""
    day, clock = read_phrase(text, today)
    return datetime.combine(day, clock or time())
