"""Dates said relative to the data date: ``start of last month``, ``7 days ago``, ``3rd working day of this month``.

Grammar, over the words of ``day_words``; *the* may stand wherever one would say it::

    phrase  = moment { ("+" | "-") count unit } [ "at" clock ]
    moment  = "today" | "yesterday" | "tomorrow" | yyyy-mm-dd | yyyy-Www-d
            | count unit ("ago" | "from now") | "in" count unit | count unit ("before" | "after") moment
            | edge "of" period
            | which weekday | weekday "of" (which "week" | yyyy-Www)
            | ("previous" | "next") "working day"
            | ordinal [ "day" | "working day" | weekday ] "of" period
            | month number [ year ] | number month [ year ]
    period  = [ which ] unit | yyyy | yyyy-mm | yyyy-Qq | yyyy-Www
            | (month | Qq | "week" number) [ "of" which "year" | [ "of" ] yyyy ]
    unit    = day(s) | working day(s) | week(s) | month(s) | quarter(s) | year(s)
    count   = number | "a" | "an" | "one"

As a period stand, besides: ``month to date`` (or week, quarter, year), two phrases with ``to`` between them, and one day.

``last monday`` is the latest Monday before the data date, ``next monday`` the first one after it, ``this monday`` that of
its week. Weeks begin on Monday and are numbered as in ISO 8601. Working days are Monday to Friday. A month or year added to a
day that the other month lacks gives that month's last day (29 February less a year is 28 February). ``at`` is for timestamps,
which otherwise stand at 00:00; they are wall-clock time in the schedule's zone, so a night that skips an hour takes nothing
away from them.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import date, datetime, time, timedelta
from difflib import get_close_matches

from ..errors import BadInput
from .day_words import MONTHS, UNITS, WEEKDAYS, WHICH, Unfit, Words, meanings

MAX_COUNT = 40_000
"""Days that a phrase may count: a century and more."""

EXAMPLES = (
    "today", "yesterday", "tomorrow", "7 days ago", "2 working days ago", "start of this month", "end of this month",
    "start of last month", "end of last month", "start of next month", "start of this quarter", "end of this quarter",
    "start of last quarter", "end of last quarter", "start of this year", "end of this year", "start of last year",
    "end of last year", "start of this week", "end of this week", "start of last week", "end of last week",
    "last monday", "next friday", "monday of last week", "friday of this week", "sunday of last week", "previous working day",
    "first day of last month", "15th of last month", "last working day of last month",
    "3rd working day of this month", "first monday of this month",
    "last friday of last month", "start of january", "end of february of last year", "start of 2026", "end of Q1 of this year",
    "start of week 5 of this year", "today - 7 days", "today - 1 month", "2 working days before end of month",
    "today - 5 working days", "today + 1 year", "start of this month - 1 day", "start of last month at 06:30",
)  # fmt: skip
"""Phrases to show to people, and to find the nearest right one among."""
PERIOD_EXAMPLES = ("last month", "month to date", "january of last year", "2026-Q1", "start of last month to yesterday")
_WHOLE = re.compile(r"\d{4}-\d{2}|\d{4}-q\d|\d{4}-w\d{2}|\d{4}")
_SLASHED = re.compile(r"(\d{1,2})[./](\d{1,2})[./](\d{4})")


def _month_of(day: date, months: int) -> date:
    """First day of the month that many months away."""
    number = day.year * 12 + day.month - 1 + months
    return date(number // 12, number % 12 + 1, 1)


def _counted(count: int, unit: str) -> str:
    """As a phrase has it: digits alone, which can be read back."""
    return f"{count} {unit}{'s' * (count != 1)}"


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


class _Reader(Words):
    """Reads one phrase, word by word; every refusal knows its word and what would have been right there."""

    def __init__(self, text: str, today: date) -> None:
        super().__init__(text)
        self.today = today

    def phrase(self) -> tuple[date, time | None]:
        day, clock = self.moment(), None
        while sign := self.take_any("+", "-"):
            day = _added(day, (-1 if sign == "-" else 1) * self.count(), self.unit())
        if self.take("at"):
            clock = self.clock()
        self.end("+", "-", "at")
        return day, clock

    def count(self) -> int:
        if self.take_any("a", "an", "one"):
            return 1
        if not self._is_count() or int(self.word()) > MAX_COUNT:
            self.refuse(f"a count up to {MAX_COUNT:,}")
        self.at += 1
        return int(self.found[self.at - 1].text)

    def _is_count(self) -> bool:
        return self.word().isascii() and self.word().isdigit()

    def unit(self) -> str:
        if self.take("working"):
            self.need("day", "days")
            return "working day"
        return self.need(*UNITS, *(f"{unit}s" for unit in UNITS), "working").rstrip("s")

    def moment(self) -> date:
        begin = self.at
        self.take("the")
        found = self.word()
        if re.fullmatch(r"\d{4}-\d{2}-\d{2}|\d{4}-w\d{2}-\d", found):
            return self._exact(found)
        if slashed := _SLASHED.fullmatch(found):
            self._slashed(*(int(each) for each in slashed.groups()))
        if (day := self._in_words()) is not None:
            return day
        if self._is_count() or found in ("a", "an", "one", "in") or (found in UNITS and self.word(1) in ("before", "after")):
            return self._counted_from()
        if found in WHICH and not (self.given() == "last" and self.word(1) == "working"):
            return self._whichever(begin)
        if self.is_weekday():
            return self._weekday_of_a_week()
        return self._in_period()

    def _exact(self, found: str) -> date:
        try:
            day = date.fromisoformat(found.upper())
        except ValueError:
            self.refuse("a day that the calendar has")
        self.at += 1
        return day

    def _slashed(self, first: int, second: int, year: int) -> None:
        ways = {f"{year:04}-{month:02}-{day:02}" for day, month in ((first, second), (second, first)) if month <= 12}
        self.ambiguous("which number is the month is not the same everywhere", *sorted(ways), at=self.at)

    def _in_words(self) -> date | None:
        plain = {"today": 0, "yesterday": -1, "tomorrow": 1}
        if word := self.take_any(*plain):
            return self.today + timedelta(days=plain[word])
        if self.is_month() and self.word(1).isdigit() and len(self.word(1)) < 3:
            month, at = self.month(), self.at
            self.at += 1
            return self._named(month, self.found[at].text, at)
        number = re.fullmatch(r"(\d+)(st|nd|rd|th)?", self.word())
        if number and (self.is_month(1) or (self.word(1) == "of" and self.is_month(2))):
            at = self.at
            self.at += 1
            self.take("of")
            return self._named(self.month(), number[1], at)
        return None

    def _named(self, month: int | None, number: str, at: int) -> date:
        """``24 november 2026``: of this year unless one is said."""
        year = self._year()
        try:
            return date(year, month or 0, int(number))
        except ValueError:
            self.at = at
            self.refuse("a day that the month has")

    def _year(self) -> int:
        """``of last year``, ``of 2025``, ``2025``; else the data date's."""
        of = self.take("of")
        if self._is_count() and len(self.word()) == 4:
            self.at += 1
            return int(self.found[self.at - 1].text)
        if not of:
            return self.today.year
        self.take("the")
        which = WHICH[self.need(*WHICH)]
        self.need("year")
        return self.today.year + which

    def _counted_from(self) -> date:
        """``7 days ago``, ``in 2 weeks``, ``2 working days before end of month``."""
        ahead = self.take("in")
        count = 1 if self.word() in UNITS else self.count()
        unit = self.unit()
        if ahead:
            return _added(self.today, count, unit)
        if self.take("ago"):
            return _added(self.today, -count, unit)
        if self.take("from", "now") or self.take("from", "today"):
            return _added(self.today, count, unit)
        side = self.need("ago", "before", "after", "from")
        if side not in ("before", "after"):
            self.refuse("now")
        return _added(self.moment(), count if side == "after" else -count, unit)

    def _whichever(self, begin: int) -> date:
        """``last monday``, ``next working day``, ``last friday of last month``."""
        at, word = self.at, self.word()
        if word == "last" and self.given() == "last" and self._counts_in_a_period():
            return self._in_period()
        self.at += 1
        if (weekday := self.weekday()) is not None:
            return self._near(WHICH[word], weekday)
        if self.working_day() and word != "this":
            return _working_days_on(self.today, WHICH[word])
        if self._is_count():
            self._rolling(word, at)
        unit = self.need("week", "month", "quarter", "year", *WEEKDAYS)
        said = f"{self.found[at].given} {unit}"
        return self.ambiguous("it is a whole period, not a day", f"start of {said}", f"end of {said}", at=begin)

    def _counts_in_a_period(self) -> bool:
        """``last``, a word that is counted, and ``of``."""
        at = self.at + 1
        while at < len(self.found) and self.found[at].text in (*WEEKDAYS, *(d[:3] for d in WEEKDAYS), "day", "working", "days"):
            at += 1
        return at < len(self.found) and self.found[at].text == "of"

    def _near(self, which: int, weekday: int) -> date:
        if which == 0:
            return self.today + timedelta(days=weekday - self.today.weekday())
        day = self.today + timedelta(days=which)
        while day.weekday() != weekday:
            day += timedelta(days=which)
        return day

    def _rolling(self, word: str, at: int) -> None:
        """``last 7 days``, ``next 3 months``: with today or without it, whole months or not."""
        count, unit = self.count(), self.unit()
        many, less = _counted(count, unit), _counted(count - 1, unit)
        one_less = less if unit == "day" else f"{many} {'-' if word == 'next' else '+'} 1 day"
        if word == "next":
            ways = (f"tomorrow to today + {many}", f"today to today + {one_less}")
            self.ambiguous("it may begin today or tomorrow", *ways, at=at)
        back = f"today - {many} to yesterday"
        if unit in ("month", "quarter", "year"):
            before = f" - {less}" if count > 1 else ""
            whole = f"start of last {unit}{before} to end of last {unit}"
            self.ambiguous(f"whole {unit}s, or back from today", whole, back, at=at)
        self.ambiguous("it may end yesterday or today", back, f"today - {one_less} to today", at=at)

    def _weekday_of_a_week(self) -> date:
        at, weekday = self.at, self.weekday()
        assert weekday is not None
        if not self.word() or self.word() in ("+", "-", "at"):
            name = WEEKDAYS[weekday]
            self.ambiguous("it does not say of which week", f"last {name}", f"next {name}", f"this {name}", at=at)
        self.need("of")
        self.take("the")
        if re.fullmatch(r"\d{4}-w\d{2}", self.word()) or (self.word() == "week" and self.word(1).isdigit()):
            first, _ = self.period()
        else:
            which = WHICH[self.need(*WHICH)]
            self.need("week")
            first, _ = _period(self.today, "week", which)
        return first + timedelta(days=weekday)

    def _in_period(self) -> date:
        """An edge of a period, or a day counted in it."""
        at = self.at
        if edge := self.take_any("start", "end"):
            self.need("of")
            first, last = self.period()
            return first if edge == "start" else last
        number = self.ordinal()
        if number is None:
            self.refuse("today", "yesterday", "tomorrow", "start", "end", "first", "last", *WEEKDAYS)
        weekday = self.weekday()
        working = weekday is None and self.working_day()
        if weekday is None and not working:
            self.take("day")
        if working and number == -1 and self.word() != "of":
            self.ambiguous("of the month, or before today", "last working day of this month", "previous working day", at=at)
        if self.word() != "of":
            self.refuse(*(("of",) if weekday is not None or working else ("day", "working", *WEEKDAYS, "of")))
        self.need("of")
        first, last = self.period()
        fits: Callable[[date], bool] = _working if working else lambda day: weekday is None or day.weekday() == weekday
        days = [day for day in (first + timedelta(days=n) for n in range((last - first).days + 1)) if fits(day)]
        if number == 0 or number > len(days):
            self.at = at
            self.refuse(f"1st to {len(days)}th: there are {len(days)} in that period")
        return days[number - 1 if number > 0 else -1]

    def period(self) -> tuple[date, date]:
        """First and last day of what stands next."""
        self.take("the")
        word = self.word()
        if _WHOLE.fullmatch(word):
            return self._numbered(word)
        if word == "week" and self.word(1).isdigit():
            self.at += 2
            number, at = int(self.found[self.at - 1].text), self.at - 1
            return self._week(number, self._year(), at)
        if quarter := re.fullmatch(r"q(\d)", word):
            self.at += 1
            at = self.at - 1
            return self._quarter(int(quarter[1]), self._year(), at)
        if self.is_month():
            month = self.month()
            first = date(self._year(), month or 1, 1)
            return first, _last_day(first)
        which = self.take_any(*WHICH)
        if not which and word not in ("week", "month", "quarter", "year"):
            self.refuse(*WHICH, *MONTHS, "week", "month", "quarter", "year")
        return _period(self.today, self.need("week", "month", "quarter", "year"), WHICH[which or "this"])

    def _numbered(self, word: str) -> tuple[date, date]:
        at = self.at
        self.at += 1
        year, _, rest = word.partition("-")
        try:
            if not rest:
                return date(int(year), 1, 1), date(int(year), 12, 31)
            if rest[0] == "w":
                return self._week(int(rest[1:]), int(year), at)
            if rest[0] == "q":
                return self._quarter(int(rest[1:]), int(year), at)
            first = date(int(year), int(rest), 1)
        except ValueError:
            self.at = at
            self.refuse("a year or month that the calendar has")
        return first, _last_day(first)

    def _week(self, number: int, year: int, at: int) -> tuple[date, date]:
        try:
            first = date.fromisocalendar(year, number, 1)
        except ValueError:
            self.at = at
            self.refuse("a week that the year has")
        return first, first + timedelta(days=6)

    def _quarter(self, number: int, year: int, at: int) -> tuple[date, date]:
        if not 1 <= number <= 4:
            self.at = at
            self.refuse("Q1 to Q4")
        first = date(year, 3 * number - 2, 1)
        return first, _month_of(first, 3) - timedelta(days=1)

    def whole_period(self) -> tuple[date, date]:
        """Of a period parameter: a period, one up to today, or one day."""
        self.take("the")
        begin = self.at
        ahead = 1 if self.word() in WHICH else 0
        unit, to_date = self.word(ahead), (self.word(ahead + 1), self.word(ahead + 2)) == ("to", "date")
        if to_date and unit in ("week", "month", "quarter", "year"):
            if ahead and self.word() != "this":
                self.refuse("this")
            first, _ = _period(self.today, unit, 0)
            self.at += ahead + 3
            return first, self.today
        if self.word() in ("last", "next") and self.word(1).isdigit():
            self.at += 1
            self._rolling(self.found[begin].text, begin)
        if self.word() in ("today", "yesterday", "tomorrow") or re.fullmatch(r"\d{4}-\d{2}-\d{2}", self.word()):
            day = self.moment()
            return day, day
        return self.period()


def _nearest_phrase(text: str, unfit: Unfit) -> str | None:
    """A right phrase: the given one with its wrong word mended, or an example like it; never one of another meaning."""
    close = unfit.close()
    if close and unfit.word:
        mended = text[: unfit.word.start] + close + text[unfit.word.start + len(unfit.word.given) :]
        if is_phrase(mended):
            return mended
    if any(" " in each for each in unfit.expected):
        return None  # what would be right there was said in words
    found = get_close_matches(" ".join(text.lower().split()), EXAMPLES, n=1, cutoff=0.8)
    return found[0] if found and meanings(text) == meanings(found[0]) else None


def _refused(text: str, unfit: Unfit, what: str) -> BadInput:
    start = unfit.word.start if unfit.word else len(text.rstrip())
    line, column = text[:start].count("\n") + 1, start - (text.rfind("\n", 0, start) + 1) + 1
    if unfit.both:
        ways = " or ".join(f"'{each}'" for each in unfit.both)
        return BadInput(f"'{text}' could mean more than one thing: {unfit.why}.", f"Write {ways}.", line=line, column=column)
    found = f"'{unfit.word.given}'" if unfit.word else "its end"
    close = _nearest_phrase(text, unfit)
    expected = ", ".join(unfit.expected[:8]) + (", …" if len(unfit.expected) > 8 else "")
    return BadInput(
        f"'{text}' is not a {what}: {found} at line {line}, column {column} does not fit.",
        f"Did you mean '{close}'?" if close else f"There it takes: {expected}.",
        line=line,
        column=column,
        expected=list(unfit.expected),
    )


def _period_as_a_day(text: str, today: date) -> BadInput | None:
    """The error for a period where a day is wanted."""
    reader = _Reader(text, today)
    try:
        reader.whole_period()
    except (Unfit, OverflowError, ValueError):
        return None
    if reader.word():
        return None
    said = " ".join(text.split())
    unit = said.lower().removesuffix("to date").strip()
    ways = f"'start of {unit}' or 'today'" if unit != said.lower() else f"'start of {said}' or 'end of {said}'"
    return BadInput(f"'{said}' is a period, not a day.", f"Write {ways}, or declare a period.", line=1, column=1)


def _out(text: str) -> BadInput:
    return BadInput(f"'{text}' leads out of the calendar.", "Count fewer days.", line=1, column=1)


def read_phrase(text: str, today: date) -> tuple[date, time | None]:
    """The day that a phrase means on a data date, and the clock time if it names one.

    Raises BadInput with line, column, what would be right there, and the nearest right phrase.
    """
    try:
        return _Reader(text, today).phrase()
    except Unfit as unfit:
        raise _period_as_a_day(text, today) or _refused(text, unfit, "date phrase") from None
    except (OverflowError, ValueError):
        raise _out(text) from None


def is_phrase(text: str) -> bool:
    """Whether it can be read at all."""
    try:
        read_phrase(text, date(2024, 2, 29))
    except BadInput:
        return False
    return True


def read_period(text: str, today: date) -> tuple[date, date]:
    """First and last day of ``last month``, ``month to date``, ``2026-W05``, or of two phrases with ``to`` between them.

    Raises BadInput.
    """
    try:
        reader = _Reader(text, today)
        made = reader.whole_period()
        if not reader.word():
            return made
    except Unfit as unfit:
        if " to " not in text or text.rstrip().lower().endswith(" to date"):
            raise _refused(text, unfit, "period") from None
    except (OverflowError, ValueError):
        raise _out(text) from None
    first, between, last = re.sub(r"^\s*from\s+", "", text, flags=re.I).partition(" to ")
    if between:
        return date_of(first, today), date_of(last, today)
    raise BadInput(f"'{text}' is not a period.", f"Write one of these: {'; '.join(PERIOD_EXAMPLES)}.", line=1, column=1)


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
