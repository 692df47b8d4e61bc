"""Runs for past due times of a schedule: first what it would do, then it."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from itertools import takewhile
from typing import Any

from django.db import transaction
from django.utils import timezone

from patient_ladle.core.calendars.clock import before_day, check_order, check_zone
from patient_ladle.core.due_decisions import RUN
from patient_ladle.core.errors import BadInput
from patient_ladle.service.people.models import Person
from patient_ladle.service.schedules.models import PRIORITIES, DueTime, Schedule
from patient_ladle.service.schedules.services import schedule_named

from .models import ENDED, FINISHED, Run
from .services import queue_due_runs

MOST = 1_000
"""Due times of one backfill: more are a mistake, or are better done in parts."""


def _moments(schedule: Schedule, first: date, last: date) -> list[datetime]:
    check_order(first, last)
    zone = check_zone(schedule.zone)
    end = min(before_day(zone, last + timedelta(days=1)), timezone.now())
    found: list[datetime] = []
    for moment in takewhile(lambda at: at <= end, schedule.timing().due_times(before_day(zone, first))):
        found.append(moment)
        if len(found) > MOST:
            raise BadInput(f"there are more than {MOST:,} due times in those days.", "Backfill fewer days at a time.")
    return found


def planned(name: str, first: date, last: date, again: bool = False) -> list[dict[str, Any]]:
    """Every due time of those local dates up to now, and what a backfill would do about it. Raises BadInput."""
    schedule = schedule_named(name)
    zone = check_zone(schedule.zone)
    moments = _moments(schedule, first, last)
    records = {d.due_at: d for d in schedule.due_times.filter(due_at__in=moments).prefetch_related("runs")}
    return [_plan(moment, moment.astimezone(zone).date(), records.get(moment), again) for moment in moments]


def _plan(moment: datetime, data_date: date, record: DueTime | None, again: bool) -> dict[str, Any]:
    runs: list[Run] = sorted(record.runs.all(), key=lambda run: run.pk) if record else []
    newest = runs[-1] if runs else None
    if newest is None:
        does, why = True, f"{record.decision}: {record.reason}" if record else "no record of it"
    elif newest.state not in ENDED:
        does, why = False, f"run {newest.pk} is {newest.state}"
    elif all(run.state == FINISHED for run in runs):
        does, why = again, f"run {newest.pk} has finished"
    else:
        does, why = True, f"run {newest.pk} is {newest.state}"
    return {"due_at": moment, "data_date": data_date, "runs": does, "why": why, "run": newest.pk if newest else None}


@transaction.atomic
def backfill(person: Person, name: str, first: date, last: date, again: bool = False) -> list[Run]:
    """What was planned, at low priority and within the limits of the sources; a due time keeps its one record."""
    schedule = schedule_named(name, locked=True)
    made = []
    for plan in planned(name, first, last, again):
        if not plan["runs"]:
            continue
        note = f"backfilled by {person.name}"
        due_time, new = DueTime.objects.get_or_create(
            schedule=schedule,
            due_at=plan["due_at"],
            defaults={"data_date": plan["data_date"], "decision": RUN, "reason": note},
        )
        if not new:
            due_time.reason = f"{note} ({due_time.decision}: {due_time.reason})"[:400]
            due_time.decision = RUN
            due_time.save()
        due_time.schedule = schedule
        made += _runs_for(due_time, person)
    return made


def _runs_for(due_time: DueTime, person: Person) -> list[Run]:
    """Its first runs, or another turn of those it had, compared with them."""
    earlier = {run.step: run for run in due_time.runs.order_by("turn")}
    turn = max((run.turn for run in earlier.values()), default=-1) + 1
    low = PRIORITIES["low"]
    return queue_due_runs(due_time, earlier, started_by=person, priority=low, backfill=True, turn=turn, finish_by=None)
