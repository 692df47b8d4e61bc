"""The scheduler: makes due moments into due times and runs, exactly once however many of it there are."""

from __future__ import annotations

import gc
import logging
import signal
import threading
import time
from collections import Counter

from django.db import DatabaseError, InterfaceError, close_old_connections, transaction
from django.utils import timezone

from patient_ladle.service.notices import courier
from patient_ladle.service.runs.alarms import mind_space, missed, sum_up
from patient_ladle.service.runs.keeping import forget_old, remove_old
from patient_ladle.service.runs.recording import record_due
from patient_ladle.service.runs.waiting import BATCH as WAITING_BATCH
from patient_ladle.service.runs.waiting import hold_quiet_sources, mark_late, settle_due
from patient_ladle.service.schedules.models import Schedule
from patient_ladle.service.schedules.services import database_now

log = logging.getLogger("ladle.scheduler")

POLL_SECONDS = 1.0
MINUTE_SECONDS = 60.0
"""Between looks at what does not change by the second: space, and whether the morning has come."""
BATCH = 2000
"""Schedules moved on in one transaction: half a second to two of work, which a crash undoes."""


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
                .order_by("next_due_at", "id")[:BATCH]
            )
            if due:
                since = min(since or due[0].next_due_at, due[0].next_due_at)
                count, missed_now = record_due(due, now)
                recorded += count
                missed_by += missed_now
        if not due:
            break
    if missed_by and since is not None:
        missed(missed_by, since)
    return recorded


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
    gc.freeze()  # what stands by now stays: no collection among the objects of a large batch goes through it again
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
                forget_old(timezone.now())
        except (DatabaseError, InterfaceError) as error:
            log.warning("the service database does not answer: %s", str(error).split("\n")[0])
            wait = 3.0
        finally:
            close_old_connections()
        stop.wait(wait)
