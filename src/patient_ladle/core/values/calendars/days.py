"""Which dates of a month a rule names."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from functools import lru_cache

SATURDAY = 5
"""The first weekday, from 0 for Monday, on which nobody works; Sunday follows."""
SEARCH_DAYS = 60
"""So far a working day is looked for; a calendar without one in two months names none."""


def is_working(day: date, holidays: Collection[date]) -> bool:
    """Monday to Friday, and no holiday."""
    return day.weekday() < SATURDAY and day not in holidays


def working_day_after(day: date, holidays: Collection[date]) -> date | None:
    """The first working day after that one; None when there is none for two months."""
    following = (day + timedelta(days=n) for n in range(1, SEARCH_DAYS))
    return next((found for found in following if is_working(found, holidays)), None)


def free_before(day: date, holidays: Collection[date]) -> date:
    """The first of the days without work that lead up to that one: what is moved from them may fall on it, or after it."""
    for _ in range(SEARCH_DAYS):
        before = day - timedelta(days=1)
        if is_working(before, holidays):
            break
        day = before
    return day


@lru_cache(maxsize=256)
def days_of(year: int, month: int) -> tuple[date, ...]:
    """All dates of a month."""
    day, found = date(year, month, 1), []
    while day.month == month:
        found.append(day)
        if day == date.max:
            break
        day += timedelta(days=1)
    return tuple(found)


class Days(ABC):
    """One of the things that a rule says of days."""

    @abstractmethod
    def of(self, month: Sequence[date], holidays: Collection[date]) -> Iterator[date]:
        """Its dates among all those of one month."""


def _nth(found: Sequence[date], number: int) -> Iterator[date]:
    """The so-and-so-many-th, counted from 1, or from the end for a negative one; nothing where there are not so many."""
    place = number - 1 if number > 0 else number
    if -len(found) <= place < len(found):
        yield found[place]


@dataclass(frozen=True, slots=True)
class Weekdays(Days):
    """Every one of these weekdays; 0 is Monday."""

    numbers: frozenset[int]

    def of(self, month: Sequence[date], holidays: Collection[date]) -> Iterator[date]:
        return (day for day in month if day.weekday() in self.numbers)


@dataclass(frozen=True, slots=True)
class EveryWorkingDay(Days):
    """Monday to Friday, without holidays."""

    def of(self, month: Sequence[date], holidays: Collection[date]) -> Iterator[date]:
        return (day for day in month if is_working(day, holidays))


@dataclass(frozen=True, slots=True)
class MonthDay(Days):
    """A day of the month, from 1; -1 is the last. Months without it are passed over."""

    number: int

    def of(self, month: Sequence[date], holidays: Collection[date]) -> Iterator[date]:
        return _nth(month, self.number)


@dataclass(frozen=True, slots=True)
class NthWeekday(Days):
    """The first, second, … or last (-1) of a weekday in the month."""

    number: int
    weekday: int

    def of(self, month: Sequence[date], holidays: Collection[date]) -> Iterator[date]:
        return _nth([day for day in month if day.weekday() == self.weekday], self.number)


@dataclass(frozen=True, slots=True)
class NthWorkingDay(Days):
    """The first, second, … or last (-1) working day of the month."""

    number: int

    def of(self, month: Sequence[date], holidays: Collection[date]) -> Iterator[date]:
        return _nth([day for day in month if is_working(day, holidays)], self.number)
