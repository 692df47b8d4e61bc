"""The scheduler: makes due moments into due times and runs, exactly once however many of it there are."""

from __future__ import annotations

import logging
import signal
import threading
from typing import Any

from django.db import DatabaseError, InterfaceError, close_old_connections, transaction

from patient_ladle.core.due_decisions import RUN, SKIPPED, DueDecision, decide
from patient_ladle.core.errors import LadleError
from patient_ladle.service.runs.services import queue_due_run
from patient_ladle.service.schedules.models import DueTime, Schedule
from patient_ladle.service.schedules.services import database_now

log = logging.getLogger("ladle.scheduler")

POLL_SECONDS = 1.0
BATCH = 100
"""Schedules moved on in one transaction."""
RECORDS = 2_000
"""Due times of one schedule recorded in one transaction: a rule of every minute over a day and a half."""


def tick() -> int:
    """Record what is due; returns the number of due times recorded."""
    recorded = 0
    while True:
        with transaction.atomic():
            now = database_now()
            due = list(
                Schedule.objects.select_for_update(skip_locked=True, of=("self",))
                .filter(next_due_at__lte=now, removed_at=None)
                .select_related("extract", "environment")
                .order_by("next_due_at", "id")[:BATCH]
            )
            for schedule in due:
                recorded += _move_on(schedule, now)
        if not due:
            return recorded


def _move_on(schedule: Schedule, now: Any) -> int:
    paused = ""
    if schedule.paused_at:
        why = f": {schedule.pause_reason}" if schedule.pause_reason else ""
        paused = f"paused by {schedule.paused_by}{why}"
    count = 0
    for decision, following in decide(schedule.rule, schedule.zone, schedule.next_due_at, now, paused):
        _record(schedule, decision)
        schedule.next_due_at = following
        count += 1
        if count >= RECORDS:
            break
    schedule.save(update_fields=["next_due_at"])
    return count


def _record(schedule: Schedule, decision: DueDecision) -> None:
    due_time, new = DueTime.objects.get_or_create(
        schedule=schedule,
        due_at=decision.due_at,
        defaults={"data_date": decision.data_date, "decision": decision.decision, "reason": decision.reason},
    )
    if not new or decision.decision != RUN:
        return
    try:
        with transaction.atomic():
            if schedule.extract.archived_at:
                raise LadleError(f"extract '{schedule.extract.name}' is archived")
            queue_due_run(due_time, decision.late)
    except LadleError as error:
        due_time.decision, due_time.reason = SKIPPED, f"could not run: {error.in_words()}"[:400]
        due_time.save()


def main() -> None:
    """Tick until asked to stop."""
    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    while not stop.is_set():
        wait = POLL_SECONDS
        try:
            tick()
        except (DatabaseError, InterfaceError) as error:
            log.warning("the service database does not answer: %s", str(error).split("\n")[0])
            wait = 3.0
        finally:
            close_old_connections()
        stop.wait(wait)
