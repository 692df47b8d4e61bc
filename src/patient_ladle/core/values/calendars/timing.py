"""The moments of a schedule: a rule in a time zone, within its dates, with holidays minded."""

from __future__ import annotations

import heapq
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta
from itertools import islice

from cronsim import CronSim

from patient_ladle.core.errors import BadInput, unknown_name

from .clock import UTC, before_day, change_on, changes_oddly, check_order, check_zone, every_moment, one_moment
from .days import days_of, free_before, is_working, working_day_after
from .holidays import NO_HOLIDAYS
from .reading import Crontab, PlainRule, read_rule

ON_HOLIDAY = ("run", "skip", "next_working_day")
"""What becomes of a moment on a holiday."""
_LONGEST_CHANGE = timedelta(hours=3)
"""Longer than any change of clocks."""
_FOLD_STEPS = 130
"""Steps tried to leave a fold: a rule of every minute repeats 60 of them, a 2 h fold 120."""
_EMPTY_MONTHS = 12 * 9
"""So many months without a day end the search: a 29th of February can be eight years away."""


@dataclass(frozen=True, slots=True)
class Moment:
    """One due time: in UTC, and the local date and time that the rule meant, before any move."""

    at: datetime
    meant: date
    wall: time


@dataclass(frozen=True)
class Timing:
    """When a schedule is due. ``first`` and ``last`` are local dates, both included; nothing is due on ``exceptions``."""

    rule: str
    zone: str = "UTC"
    first: date | None = None
    last: date | None = None
    exceptions: frozenset[date] = frozenset()
    on_holiday: str = "run"
    holidays: Mapping[date, str] = field(default_factory=lambda: NO_HOLIDAYS)

    def check(self, now: datetime) -> None:
        """Refuse what names no moment. Raises BadInput, UnknownName."""
        check_zone(self.zone)
        read_rule(self.rule)
        if self.on_holiday not in ON_HOLIDAY:
            raise unknown_name("holiday policy", self.on_holiday, ON_HOLIDAY)
        check_order(self.first, self.last)
        begin = min(now, datetime.combine(self.first, time(), UTC)) if self.first else now
        if self.next_due(begin) is None:
            raise BadInput(
                f"the rule '{self.rule}' names no moment from {(self.first or now.date()).isoformat()} on.",
                "Change the rule, its last date or its exceptions.",
            )

    def next_due(self, after: datetime) -> datetime | None:
        """The first moment strictly after ``after``, in UTC; None when there are no more."""
        found = next(self.moments(after), None)
        return found.at if found else None

    def due_times(self, after: datetime) -> Iterator[datetime]:
        """The moments strictly after ``after``, in UTC, each later than the one before."""
        return (moment.at for moment in self.moments(after))

    def noted(self, after: datetime, count: int) -> list[tuple[datetime, str]]:
        """The next moments, each with what is out of the ordinary about it."""
        zone = check_zone(self.zone)
        found = []
        for moment in islice(self.moments(after), count):
            day = moment.at.astimezone(zone).date()
            notes = [change_on(zone, day)]
            if day != moment.meant:
                why = self.holidays.get(moment.meant, "a weekend")
                notes.insert(0, f"moved from {moment.meant.isoformat()} ({why})")
            elif day in self.holidays:
                notes.insert(0, f"on a holiday ({self.holidays[day]})")
            found.append((moment.at, "; ".join(note for note in notes if note)))
        return found

    def moments(self, after: datetime) -> Iterator[Moment]:
        """``due_times`` with the dates they were meant for."""
        zone, rule = check_zone(self.zone), read_rule(self.rule)
        weekends_too = isinstance(rule, PlainRule) and rule.to_working_day
        moving = weekends_too or self.on_holiday == ON_HOLIDAY[2]
        start = after.astimezone(UTC)
        if self.first:
            start = max(start, before_day(zone, self.first))
        begin = before_day(zone, free_before(start.astimezone(zone).date(), self.holidays)) if moving else start
        raw = self._crontab(rule, begin) if isinstance(rule, Crontab) else self._plain(rule, begin)
        last = start
        for moment in self._settled(raw, weekends_too):
            day = moment.at.astimezone(zone).date()
            if self.last and day > self.last:
                if moment.meant > self.last:
                    return
                continue
            if moment.at > last and day not in self.exceptions:
                yield moment
                last = moment.at

    def _settled(self, raw: Iterator[Moment], weekends_too: bool) -> Iterator[Moment]:
        """Holidays minded, still in the order of time. ``weekends_too``: they move like holidays."""
        zone = check_zone(self.zone)
        waiting: list[tuple[datetime, date, time]] = []
        for moment in raw:
            while waiting and waiting[0][0] <= moment.at:
                yield Moment(*heapq.heappop(waiting))
            day = moment.meant
            free = not is_working(day, self.holidays) if weekends_too else day in self.holidays
            if not free or (self.on_holiday == "run" and not weekends_too):
                yield moment
            elif weekends_too or self.on_holiday == ON_HOLIDAY[2]:
                to = working_day_after(day, self.holidays)
                if to is not None:
                    heapq.heappush(waiting, (one_moment(zone, to, moment.wall), day, moment.wall))
        while waiting:
            yield Moment(*heapq.heappop(waiting))

    def _crontab_by_walls(self, rule: Crontab, after: datetime) -> Iterator[Moment]:
        """Wall times first, then the moments at which clocks show them: right for changes of any size, and slower.

        As cron does it: a rule with ``*`` for minute or hour is of many times, any other one of fixed times.
        """
        zone = check_zone(self.zone)
        of_many = any(part.startswith("*") for part in rule.text.split()[:2])
        begin = (after.astimezone(zone) - _LONGEST_CHANGE).replace(tzinfo=None)
        waiting: list[tuple[datetime, date, time]] = []
        for wall in CronSim(rule.text, begin):
            day, clock = wall.date(), wall.time()
            found = every_moment(zone, day, [clock]) if of_many else [one_moment(zone, day, clock)]
            first = wall.replace(tzinfo=zone).astimezone(UTC)
            while waiting and waiting[0][0] < min([first, *found]):
                yield Moment(*heapq.heappop(waiting))
            for at in found:
                if at > after and (at, day, clock) not in waiting:
                    heapq.heappush(waiting, (at, day, clock))
        while waiting:
            yield Moment(*heapq.heappop(waiting))

    def _crontab(self, rule: Crontab, after: datetime) -> Iterator[Moment]:
        """``cronsim`` is right across changes by whole hours, but may repeat a moment inside a fold."""
        zone, last = check_zone(self.zone), after
        if changes_oddly(zone):
            yield from self._crontab_by_walls(rule, after)
            return
        moments = CronSim(rule.text, last.astimezone(zone))
        while True:
            for _ in range(_FOLD_STEPS):
                local = next(moments, None)
                if local is None:
                    return
                found = local.astimezone(UTC)
                if found > last:
                    break
            else:
                return
            yield Moment(found, local.date(), local.time())
            last = found

    def _plain(self, rule: PlainRule, after: datetime) -> Iterator[Moment]:
        zone = check_zone(self.zone)
        begin = after.astimezone(zone).date() - timedelta(days=1)
        year, month, empty = begin.year, begin.month, 0
        while empty < _EMPTY_MONTHS and year < date.max.year:
            days: set[date] = set()
            if not rule.months or month in rule.months:
                whole = days_of(year, month)
                days = {day for each in rule.days for day in each.of(whole, self.holidays)}
            empty = 0 if days else empty + 1
            for day in sorted(day for day in days if day >= begin):
                each = rule.each
                named = (
                    [Moment(at, day, at.astimezone(zone).time()) for at in every_moment(zone, day, each.times())]
                    if each
                    else [Moment(one_moment(zone, day, wall), day, wall) for wall in rule.times]
                )
                yield from (moment for moment in named if moment.at > after)
            year, month = (year + 1, 1) if month == 12 else (year, month + 1)
