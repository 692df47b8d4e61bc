"""The scheduler: makes due moments into due times and runs, exactly once however many of it there are."""

from __future__ import annotations

import logging
import signal
import threading
import time
from collections import Counter
from typing import Any

from django.db import DatabaseError, InterfaceError, close_old_connections, transaction
from django.utils import timezone

from patient_ladle.core.due_decisions import LATE_AFTER, MISSED, RUN, SKIPPED, DueDecision, decide
from patient_ladle.core.errors import LadleError
from patient_ladle.service.notices import courier
from patient_ladle.service.runs.alarms import mind_space, missed, sum_up
from patient_ladle.service.runs.keeping import remove_old
from patient_ladle.service.runs.services import queue_due_runs
from patient_ladle.service.runs.waiting import BATCH as WAITING_BATCH
from patient_ladle.service.runs.waiting import hold_quiet_sources, mark_late, settle_due, unfinished_of
from patient_ladle.service.schedules.models import DueTime, Schedule
from patient_ladle.service.schedules.services import database_now

log = logging.getLogger("ladle.scheduler")

POLL_SECONDS = 1.0
MINUTE_SECONDS = 60.0
"""Between looks at what does not change by the second: space, and whether the morning has come."""
BATCH = 100
"""Schedules moved on in one transaction."""
RECORDS = 2_000
"""Due times of one schedule recorded in one transaction: a rule of every minute over a day and a half."""


def tick() -> int:
    """Record what is due; returns the number of due times recorded."""
    recorded = 0
    missed_by: Counter[str] = Counter()
    since = None
    while True:
        with transaction.atomic():
            now = database_now()
            due = list(
                Schedule.objects.select_for_update(skip_locked=True, of=("self",))
                .filter(next_due_at__lte=now, removed_at=None)
                .select_related("extract", "environment", "calendar")
                .order_by("next_due_at", "id")[:BATCH]
            )
            for schedule in due:
                since = min(since or schedule.next_due_at, schedule.next_due_at)
                recorded += _move_on(schedule, now, missed_by)
        if not due:
            break
    missed_by = +missed_by
    if missed_by and since is not None:
        missed(missed_by, since)
    return recorded


def _move_on(schedule: Schedule, now: Any, missed_by: Counter[str]) -> int:
    count = 0
    for decision, following in decide(schedule.timing(), schedule.next_due_at, now, schedule.catch_up(), schedule.pause()):
        _record(schedule, decision)
        missed_by[schedule.name] += decision.decision == MISSED and now - decision.due_at > LATE_AFTER
        schedule.next_due_at = following
        count += 1
        if count >= RECORDS:
            break
    if schedule.paused_until and schedule.paused_until <= now:
        schedule.lift_pause()
    schedule.save(update_fields=["next_due_at", "paused_at", "paused_until", "paused_by", "pause_reason"])
    return count


def _record(schedule: Schedule, decision: DueDecision) -> None:
    due_time, new = DueTime.objects.get_or_create(
        schedule=schedule,
        due_at=decision.due_at,
        defaults={"data_date": decision.data_date, "decision": decision.decision, "reason": decision.reason},
    )
    if not new or decision.decision != RUN:
        return
    due_time.schedule = schedule
    try:
        with transaction.atomic():
            running = unfinished_of(schedule).order_by("id").first() if schedule.overlap == "skip" else None
            if running is not None:
                _skip(due_time, f"run {running.pk} of the due time {running.due_at:%Y-%m-%d %H:%M} UTC had not ended")
            else:
                queue_due_runs(due_time, late=decision.late)
    except LadleError as error:
        _skip(due_time, f"could not run: {error.in_words()}")


def _skip(due_time: DueTime, reason: str) -> None:
    due_time.decision, due_time.reason = SKIPPED, reason[:400]
    due_time.save()


def look_after_waiting() -> None:
    """Whatever waits for a moment that has come."""
    now = timezone.now()
    while settle_due(now) == WAITING_BATCH:
        pass
    hold_quiet_sources(now)
    mark_late(now)


def main() -> None:
    """Tick until asked to stop."""
    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    threading.Thread(target=courier.work, args=(stop,), daemon=True).start()
    minded = 0.0
    while not stop.is_set():
        wait = POLL_SECONDS
        try:
            tick()
            look_after_waiting()
            if time.monotonic() - minded > MINUTE_SECONDS or not minded:
                minded = time.monotonic()
                mind_space()
                sum_up(timezone.now())
                remove_old(timezone.now())
        except (DatabaseError, InterfaceError) as error:
            log.warning("the service database does not answer: %s", str(error).split("\n")[0])
            wait = 3.0
        finally:
            close_old_connections()
        stop.wait(wait)
