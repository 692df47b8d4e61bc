"""A month of a schedule at a glance: what became of each day's due times, and how many are still to come."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date, timedelta
from itertools import islice

from django.db.models import Count, Exists, OuterRef
from django.db.models.functions import TruncDate
from django.utils import timezone

from patient_ladle.core.runs.due_decisions import RUN
from patient_ladle.core.values.calendars.clock import before_day, check_zone
from patient_ladle.service.ledger.models import Run
from patient_ladle.service.ledger.states import HELD, REJECTED
from patient_ladle.service.schedules.models import Schedule

MOST_TO_COME = 2_000
"""Moments that are counted ahead: a rule of every minute names forty thousand in a month."""


@dataclass(slots=True)
class Day:
    """``counts``: runs by state (those that are held or rejected by that), and due times without any by their decision."""

    date: date
    holiday: str
    counts: Counter[str] = field(default_factory=Counter)
    to_come: int = 0


def month_of(schedule: Schedule, first: date) -> tuple[list[Day], bool]:
    """Every day of the month that begins on that date, by the clocks of the schedule; whether all to come were counted."""
    zone, following = check_zone(schedule.zone), (first + timedelta(days=32)).replace(day=1)
    begin, end = before_day(zone, first) + timedelta(microseconds=1), before_day(zone, following)
    holidays: Mapping[date, str] = schedule.calendar.days() if schedule.calendar else {}
    days = {each: Day(each, holidays.get(each, "")) for each in _dates(first, following)}
    without = schedule.due_times.filter(due_at__range=(begin, end)).exclude(decision=RUN).order_by()
    by_day = without.annotate(day=TruncDate("due_at", tzinfo=zone)).values_list("day", "decision")
    for day, decision, number in by_day.annotate(Count("pk")):
        days[day].counts[decision] += number
    later = Run.objects.filter(due_time=OuterRef("due_time"), step=OuterRef("step"), turn__gt=OuterRef("turn"))
    runs = (
        Run.objects.filter(due_time__schedule=schedule, due_time__due_at__range=(begin, end)).exclude(Exists(later)).order_by()
    )
    told = runs.annotate(day=TruncDate("due_time__due_at", tzinfo=zone)).values_list("day", "state", "held")
    for day, state, held, number in told.annotate(Count("pk")):
        days[day].counts[held if held in (HELD, REJECTED) else state] += number
    if schedule.paused_at and not schedule.paused_until:
        return list(days.values()), True
    ahead = schedule.timing().due_times(max(timezone.now(), schedule.paused_until or begin, begin - timedelta(microseconds=1)))
    counted = 0
    for moment in islice(ahead, MOST_TO_COME):
        if moment > end:
            break
        days[moment.astimezone(zone).date()].to_come += 1
        counted += 1
    return list(days.values()), counted < MOST_TO_COME


def _dates(first: date, following: date) -> list[date]:
    return [first + timedelta(days=n) for n in range((following - first).days)]
