"""The scheduler: makes due moments into due times and runs, exactly once however many of it there are."""

from __future__ import annotations

import gc
import logging
import os
import signal
import threading
import time

from django.db import DatabaseError, InterfaceError, close_old_connections, transaction
from django.utils import timezone

from patient_ladle.service.notices import courier
from patient_ladle.service.runs.alarms import mind_space, sum_up, tell_missed
from patient_ladle.service.runs.keeping import forget_old, remove_old
from patient_ladle.service.runs.recording import record_due
from patient_ladle.service.runs.waiting import BATCH as WAITING_BATCH
from patient_ladle.service.runs.waiting import hold_quiet_sources, mark_late, settle_due
from patient_ladle.service.schedules.models import Schedule
from patient_ladle.service.schedules.services import database_now

from .parent import end_with_parent
from .second_scheduler import SecondScheduler

log = logging.getLogger("ladle.scheduler")

POLL_SECONDS = 1.0
MINUTE_SECONDS = 60.0
"""Between looks at what does not change by the second: space, and whether the morning has come."""
BATCH = 1000
"""Schedules moved on in one transaction: a quarter of a second to a whole one of work, which a crash undoes."""


def tick(second: SecondScheduler | None = None) -> int:
    """Record what is due, with the second process if that is much; returns the number of due times recorded."""
    recorded = record_all(second) + (second.answer() if second else 0)
    tell_missed()
    return recorded


def record_all(second: SecondScheduler | None = None) -> int:
    """Record until nothing is due that no other scheduler holds; ``second`` is asked to help when a batch is full."""
    recorded = 0
    while True:
        with transaction.atomic():
            now = database_now()
            due = list(
                Schedule.objects.select_for_update(skip_locked=True, of=("self",))
                .filter(next_due_at__lte=now, removed_at=None)
                .order_by("next_due_at", "id")[:BATCH]
            )
            if second and len(due) == BATCH:
                second.ask()
            if due:
                recorded += record_due(due, now)
        if not due:
            return recorded


def look_after_waiting() -> None:
    """Whatever waits for a moment that has come."""
    now = timezone.now()
    while settle_due(now) == WAITING_BATCH:
        pass
    hold_quiet_sources(now)
    mark_late(now)


def _record_along() -> int:
    """What the second process does; what it cannot do, the first one meets as well."""
    try:
        return record_all()
    except (DatabaseError, InterfaceError) as error:
        _away(error)
        return 0
    finally:
        close_old_connections()


def _away(error: Exception) -> None:
    log.warning("the service database does not answer: %s", str(error).split("\n")[0])


def main() -> None:
    """Tick until asked to stop."""
    gc.freeze()  # what stands by now stays: no collection among the objects of a large batch goes through it again
    second = SecondScheduler(_record_along) if (os.cpu_count() or 1) > 1 else None
    end_with_parent()
    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    threading.Thread(target=courier.work, args=(stop,), daemon=True).start()
    minded = 0.0
    while not stop.is_set():
        wait = POLL_SECONDS
        try:
            tick(second)
            look_after_waiting()
            if time.monotonic() - minded > MINUTE_SECONDS or not minded:
                minded = time.monotonic()
                mind_space()
                sum_up(timezone.now())
                remove_old(timezone.now())
                forget_old(timezone.now())
        except (DatabaseError, InterfaceError) as error:
            _away(error)
            wait = 3.0
        finally:
            close_old_connections()
        stop.wait(wait)
