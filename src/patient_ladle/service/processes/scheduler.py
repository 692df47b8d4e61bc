"""The scheduler: makes due moments into due times and runs, exactly once however many of it there are."""

from __future__ import annotations

import gc
import logging
import os
import signal
import threading

from django.db import transaction
from django.utils import timezone

from patient_ladle.service.alerts import courier
from patient_ladle.service.common.alone import AWAY, guarded, one_by_one
from patient_ladle.service.common.clock import database_now
from patient_ladle.service.ledger.alarms import mind_space, tell_missed
from patient_ladle.service.ledger.clearing import clear_attempts, clear_targets
from patient_ladle.service.ledger.models import Pulse
from patient_ladle.service.ledger.stored_files import read_in_turn
from patient_ladle.service.ledger.waiting import BATCH as WAITING_BATCH
from patient_ladle.service.ledger.waiting import hold_quiet_sources, mark_late, settle_due
from patient_ladle.service.runs.recording import due_now, record_due, set_aside
from patient_ladle.service.runs.retention import forget_old, remove_old, sweep_store
from patient_ladle.service.runs.summaries import sum_up
from patient_ladle.service.schedules.models import Schedule
from patient_ladle.service.sources.interactive import end_lost

from .parent import end_with_parent
from .second_scheduler import SecondScheduler

log = logging.getLogger("ladle.scheduler")

POLL_SECONDS = 1.0
MINUTE_SECONDS = 60.0
CLEARINGS = 10
"""Times a minute that what attempts have left is removed."""
"""Between looks at what does not change by the second: space, and whether the morning has come."""
BATCH = 1000
"""Schedules moved on in one transaction: a quarter of a second to a whole one of work, which a crash undoes."""


def tick(second: SecondScheduler | None = None) -> int:
    """Record what is due, with the second process if that is much; returns the number of due times recorded."""
    recorded = record_all(second) + (second.answer() if second else 0)
    tell_missed()
    return recorded


def record_all(second: SecondScheduler | None = None) -> int:
    """Record until nothing is due that no other scheduler holds; ``second`` is asked to help when a batch is full.

    A batch that meets a fault is undone and its schedules are recorded one by one: the fault is that schedule's own.
    """
    recorded = 0
    while True:
        due: list[Schedule] = []
        try:
            with transaction.atomic():
                now = database_now()
                locked = due_now(now).select_for_update(skip_locked=True, of=("self",))
                due = list(locked.order_by("next_due_at", "id")[:BATCH])
                if second and len(due) == BATCH:
                    second.ask()
                if due:
                    recorded += record_due(due, now)
        except AWAY:
            raise
        except Exception:
            log.exception("%s schedules could not be recorded together, and are recorded one by one", len(due))
            recorded += _record_one_by_one([schedule.pk for schedule in due])
        if not due:
            return recorded
        Pulse.beat("scheduler")


def _record_one_by_one(numbers: list[int]) -> int:
    recorded = 0

    def record(number: int) -> None:
        nonlocal recorded
        now = database_now()
        schedule = due_now(now).select_for_update(skip_locked=True, of=("self",)).filter(pk=number).first()
        if schedule is not None:
            recorded += record_due([schedule], now)

    one_by_one(numbers, record, "recording schedule", lambda number, error: set_aside(Schedule.objects.get(pk=number), error))
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
    with guarded("recording along", log):
        return record_all()
    return 0


def keep_up(stop: threading.Event) -> None:
    """Runs in its own thread: what does not change by the second, and may take long when a store is away."""
    while not stop.is_set():
        with guarded("upkeep", log):
            mind_space()
        for work in (end_lost, sum_up, clear_targets, remove_old, forget_old, sweep_store):
            with guarded("upkeep", log):
                work(timezone.now())
        with guarded("upkeep", log):
            Pulse.beat("upkeep")
        for _ in range(CLEARINGS):
            with guarded("clearing", log):
                clear_attempts(timezone.now())
            if stop.wait(MINUTE_SECONDS / CLEARINGS):
                return


def look(second: SecondScheduler | None) -> None:
    """One look at all that falls due; what one part of it cannot do, the others do not suffer from."""
    with guarded("recording due times", log):
        tick(second)
        Pulse.beat("scheduler")
    with guarded("looking after what waits", log):
        look_after_waiting()


def main() -> None:
    """Look until asked to stop."""
    gc.freeze()  # what stands by now stays: no collection among the objects of a large batch goes through it again
    second = SecondScheduler(_record_along) if (os.cpu_count() or 1) > 1 else None
    end_with_parent()
    stop = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stop.set())
    threads = [threading.Thread(target=work, args=(stop,), daemon=True, name=name)
               for name, work in (("courier", courier.work), ("upkeep", keep_up), ("read through", read_in_turn))]  # fmt: skip
    for thread in threads:
        thread.start()
    while not stop.is_set():
        look(second)
        ended = [thread.name for thread in threads if not thread.is_alive()]
        if ended and not stop.is_set():
            log.error("the scheduler's thread %s has ended, so it begins anew", ended[0])
            os._exit(4)
        stop.wait(POLL_SECONDS)
