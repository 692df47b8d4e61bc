"""A rule's text: five crontab fields, or plain words.

Rules and theory
----------------
* ``daily 06:30`` · ``weekdays 06:30`` · ``mondays and thursdays 06:30 and 18:00`` · ``monday to friday 6:30am``
* ``working days 07:00``
* ``hourly`` · ``every 15 minutes`` · ``daily 07:00 to 19:00 each 15 minutes`` · ``every 2 hours on weekdays``
* ``1st and 15th 05:00`` · ``monthly on the 1st at 05:00`` · ``last day 23:30`` · ``end of month 23:30``
* ``end of quarter 23:30``
* ``last friday 18:00`` · ``1st and 3rd monday 08:00`` · ``3rd working day 07:00`` · ``last business day 16:00``
* ``of january, april and july`` after the days narrows them; ``or next working day`` moves those on which nobody works.
* ``@hourly``, ``@daily``, ``@weekly``, ``@monthly`` and ``@yearly``, as crontabs have them.
* Ordinals wait for the word they count: in *1st and 3rd monday* both count Mondays; alone they are days of the month.
* Times may stand before the days, and *every*, *on*, *at* and *the* where one would say them.
* What could mean more than one thing (*monthly 05:00*, *every 2nd monday*) is refused with both written out.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime, time, timezone
from functools import lru_cache

from cronsim import CronSim, CronSimError

from patient_ladle.core.errors import BadInput

from ..day_words import MONTHS, ORDINAL_WORDS, WEEKDAYS, Unfit, Words
from .days import Days, EveryWorkingDay, MonthDay, NthWeekday, NthWorkingDay, Weekdays

FORMS = (
    "daily 06:30",
    "weekdays 06:30",
    "mondays and thursdays 06:30 and 18:00",
    "daily 07:00 to 19:00 each 15 minutes",
    "every 15 minutes",
    "1st and 15th 05:00",
    "1st or next working day 05:00",
    "3rd working day 07:00",
    "last friday 18:00",
    "end of month 23:00",
    "last day of march, june, september and december 23:00",
    "30 6 * * 1-5",
)
"""One of each form, for hints and for whoever chooses."""
HINT = f"Write it as one of these: {'; '.join(FORMS[:9])}; or five crontab fields, as in '{FORMS[-1]}'."
_CRONTAB = re.compile(r"[0-9*,/a-z#l-]+", re.I)
_NICKNAMES = {
    "@hourly": "0 * * * *", "@daily": "0 0 * * *", "@midnight": "0 0 * * *", "@weekly": "0 0 * * 0", "@monthly": "0 0 1 * *",
    "@yearly": "0 0 1 1 *", "@annually": "0 0 1 1 *",
}  # fmt: skip
_DAY_MINUTES = 24 * 60
EVERY_DAY: tuple[Days, ...] = (Weekdays(frozenset(range(7))),)
_EACH = ("each", "every")
_EDGES = {"month": range(1, 13), "quarter": (1, 4, 7, 10), "year": (1,)}
_KNOWN = (
    *WEEKDAYS, *(f"{day}s" for day in WEEKDAYS), "daily", "hourly", "every", "weekdays", "weekends", "working", "monthly",
    *ORDINAL_WORDS,
)  # fmt: skip
_OTHER_WEEK = (
    "a rule names days of the week or of the month, and every second week is neither; the nearest is '1st and 15th 06:30'."
)


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
    if len(fields) == 1 and fields[0].startswith("@"):
        if (name := fields[0].lower()) not in _NICKNAMES:
            raise BadInput(f"there is no rule '{fields[0]}'.", f"There is: {', '.join(_NICKNAMES)}.", column=1)
        return _crontab(_NICKNAMES[name])
    if _looks_like_crontab(fields):
        if len(fields) != 5:
            said = f"the rule '{text}' has {len(fields)} fields; a crontab rule has five."
            raise BadInput(said, _hint(_meant(f"every {text}", re.sub(r"^(\d\d)(\d\d) ", r"\1:\2 ", text))))
        if all(_CRONTAB.fullmatch(field) for field in fields):
            return _crontab(text)
    try:
        return _Reader(text).rule()
    except Unfit as unfit:
        raise _refused(text, unfit) from None


def _looks_like_crontab(fields: Sequence[str]) -> bool:
    return bool(fields and re.fullmatch(r"[\d*][\d*,/-]*", fields[0])) and not (
        fields[1:2] and fields[1].lower() in ("am", "pm")
    )


def _meant(*ways: str) -> str | None:
    """The first of these that is a rule in words."""
    for way in ways:
        with suppress(Unfit):
            if not _looks_like_crontab(way.split()):
                _Reader(way).rule()
                return way
    return None


def _hint(close: str | None) -> str:
    return f"Did you mean '{close}'? {HINT}" if close else HINT


def _refused(text: str, unfit: Unfit) -> BadInput:
    column = unfit.word.start + 1 if unfit.word else len(text) + 1
    if unfit.both:
        ways = " or ".join(f"'{each}'" for each in unfit.both)
        return BadInput(f"the rule '{text}' could mean more than one thing: {unfit.why}.", f"Write {ways}.", column=column)
    if unfit.why:
        return BadInput(f"the rule '{text}' cannot be read: {unfit.why}", HINT, column=column)
    given = f"'{unfit.word.given}' at column {column}" if unfit.word else "the end"
    close = unfit.close() or _meant(f"{text} 06:30", f"every {text}", re.sub(r" (\d\d?)$", r" \1:00", text))
    return BadInput(f"the rule '{text}': {unfit.expected[0]} was expected, not {given}.", _hint(close), column=column)


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


class _Reader(Words):
    """Days, months and times, in the order in which one says them."""

    def rule(self) -> PlainRule:
        times, each = self._times_first()
        if (times or each) and not self.word():
            days, months = [*EVERY_DAY], frozenset[int]()
        else:
            self.take("on")
            days, months = self._days()
            months |= frozenset(self._months())
        moved = self.take("or", "next", "working", "day")
        if not (times or each):
            self.take("at")
            each = self._each()
            times = () if each else tuple(self.listed(self.clock, self._is_number))
        self.end()
        return PlainRule(tuple(days), months, moved, tuple(sorted(set(times))), each)

    def _is_number(self) -> bool:
        return ":" in self.word() or self.is_clock()

    def _times_first(self) -> tuple[tuple[time, ...], Each | None]:
        """``hourly``, ``every 15 minutes``, ``06:30 on weekdays``: what stands before the days."""
        begins = self.word() == "hourly" or (
            self.word() in _EACH and (self.word(1).isdigit() or self.word(1) in ("hour", "minute"))
        )
        if begins or (self.is_clock() and self._to_after_clock()):
            return (), self._each()
        if self.take("at") or self.is_clock():
            return tuple(self.listed(self.clock, self.is_clock)), None
        return (), None

    def _to_after_clock(self) -> bool:
        return self.word(2 if self.word(1) in ("am", "pm") else 1) == "to"

    def _days(self) -> tuple[list[Days], frozenset[int]]:
        """The days, and the months that their own words name."""
        if self.take("daily") or any(self.take(each, "day") for each in _EACH):
            return [*EVERY_DAY], frozenset()
        if (often := self.word()) in ("weekly", "monthly", "quarterly", "yearly", "annually"):
            return self._often(often)
        if self.word() in _EACH and self.word(1) == "other":
            raise Unfit(self.found[self.at], (), why=_OTHER_WEEK)
        every = any(self.take(each) for each in _EACH)
        if every and self._every_so_many():
            which = " ".join(word.given for word in self.found[self.at : self.at + 2])
            why = f"'{which} 06:30' is that of each month; {_OTHER_WEEK}"
            raise Unfit(self.found[self.at], (), why=why)
        self.take("the")
        if self.word() in ("start", "end"):
            return self._edge()
        return self._counted(), frozenset()

    def _every_so_many(self) -> bool:
        """``every 2nd monday``: that of each month, or every other one."""
        at = self.at
        number = self.ordinal()
        counts = number is not None and number > 1 and (self.is_weekday() or self.word() in ("working", "day", "week", "month"))
        self.at = at
        return counts

    def _often(self, often: str) -> tuple[list[Days], frozenset[int]]:
        """``monthly on the 1st``: how often is said once more by the days; alone it does not say on which."""
        at = self.at
        self.at += 1
        clock = " ".join(word.given for word in self.found[self.at :]) or "06:30"
        if often in ("weekly", "monthly") and self.take("on"):
            self.take("the")
            begin, days = self.at, self._counted()
            weekly = all(isinstance(day, (Weekdays, EveryWorkingDay)) for day in days)
            if weekly == (often == "weekly"):
                return days, frozenset()
            self.at = begin
            self.refuse("days of the month" if often == "monthly" else "days of the week")
        ways = {
            "weekly": ("mondays {0}", "fridays {0}"),
            "monthly": ("1st {0}", "last day {0}"),
            "quarterly": ("1st of january, april, july and october {0}", "end of quarter {0}"),
        }.get(often, ("1st of january {0}", "end of year {0}"))
        clock = clock.removeprefix("at ") if ":" in clock else "06:30"
        return self.ambiguous("it does not say on which day", *(way.format(clock) for way in ways), at=at)

    def _edge(self) -> tuple[list[Days], frozenset[int]]:
        """``end of month``, ``start of the quarter``."""
        at = self.at
        end = self.need("start", "end") == "end"
        self.take("of")
        self.take_any("the", "this", *_EACH)
        if self.take("week"):
            if end:
                self.ambiguous("weeks end on Friday or on Sunday", "fridays 18:00", "sundays 18:00", at=at)
            return [Weekdays(frozenset({0}))], frozenset()
        unit = self.need("month", "quarter", "year")
        length = 12 // len(_EDGES[unit])
        months = frozenset(month + (length - 1) * end for month in _EDGES[unit])
        return [MonthDay(-1 if end else 1)], frozenset() if unit == "month" else months

    def _counted(self) -> list[Days]:
        found: list[Days] = []
        waiting: list[int] = []
        while True:
            self.take("the")
            if (number := self._day_number()) is not None:
                waiting.append(number)
            else:
                found += self._noun(waiting)
                waiting = []
            if not (self.take("and") or self._more_days()):
                break
        if -1 in waiting:
            self.refuse("what the last one is of, such as 'friday' or 'working day',", known=[*WEEKDAYS, "working", "day"])
        return found + [MonthDay(number) for number in waiting]

    def _more_days(self) -> bool:
        word = self.word()
        return bool(word) and (
            self.is_weekday()
            or word.removesuffix("s") in ("weekday", "weekend", "day")
            or word in ("working", *ORDINAL_WORDS)
            or bool(re.fullmatch(r"\d+(st|nd|rd|th)", word))
        )

    def _day_number(self) -> int | None:
        at = self.at
        number = self.ordinal()
        if number is not None and not (number == -1 or 1 <= number <= 31):
            self.at = at
            self.refuse("a day from 1st to 31st")
        return number

    def _noun(self, ordinals: Sequence[int]) -> list[Days]:
        weekday = self.weekday()
        if weekday is not None:
            if ordinals:
                return [NthWeekday(n, weekday) for n in ordinals]
            return [Weekdays(self._until(weekday))]
        if self.working_day():
            return [NthWorkingDay(n) for n in ordinals] or [EveryWorkingDay()]
        word = self.word().removesuffix("s")
        if word == "day" and ordinals:
            self.at += 1
            return [MonthDay(n) for n in ordinals]
        if word in ("weekday", "weekend") and not ordinals:
            self.at += 1
            return [Weekdays(frozenset(range(5) if word == "weekday" else (5, 6)))]
        return self.refuse("a day", known=_KNOWN)

    def _until(self, first: int) -> frozenset[int]:
        """``monday to friday``, ``sat-mon``: round the week's end where it must."""
        if self.word() not in ("to", "-") or not self.is_weekday(1):
            return frozenset({first})
        self.at += 1
        last = self.weekday()
        assert last is not None
        return frozenset((first + n) % 7 for n in range((last - first) % 7 + 1))

    def _months(self) -> list[int]:
        if not (self.take("of") or self.take("in")):
            return []
        if self.word() in ("the", "a", *_EACH) and self.word(1) == "month":
            self.at += 2
            return []
        return self.listed(self._month, self.is_month)

    def _month(self) -> int:
        number = self.month()
        return self.refuse("a month", known=MONTHS) if number is None else number

    def _each(self) -> Each | None:
        if self.word() in (*_EACH, "hourly"):
            minutes = self._minutes()
            if not self.take_any("from", "between"):
                return Each(time(0, 0), time(23, 59), minutes)
            start, end = self._from_to()
            return Each(start, end, minutes)
        if not (self.is_clock() and self._to_after_clock()):
            return None
        start, end = self._from_to()
        return Each(start, end, self._minutes())

    def _from_to(self) -> tuple[time, time]:
        start = self.clock()
        self.need("to", "and")
        at, end = self.at, self.clock()
        if end <= start:
            self.at = at
            self.refuse(f"a time after {start:%H:%M}")
        return start, end

    def _minutes(self) -> int:
        if self.take("hourly"):
            return 60
        if not self.take_any(*_EACH):
            self.refuse("'each' and a number of minutes or hours", known=("each",))
        number = 1
        if self.word().isascii() and self.word().isdigit():
            number = int(self.word())
            self.at += 1
        unit = self.word().removesuffix("s")
        if unit == "min":
            unit = "minute"
        if unit in ("week", "month", "day", "quarter", "year") and number > 1:
            raise Unfit(self.found[self.at], (), why=_OTHER_WEEK)
        if unit not in ("minute", "hour"):
            self.refuse("minutes or hours", known=("minutes", "hours"))
        minutes = number * (60 if unit == "hour" else 1)
        if not 1 <= minutes < _DAY_MINUTES:
            self.refuse("from 1 minute to less than a day")
        self.at += 1
        return minutes
