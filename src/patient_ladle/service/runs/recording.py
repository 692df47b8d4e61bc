"""Due times recorded and their runs made, many at once: ten thousand schedules may be due in the same minute.

A due time has one record, under ``UNIQUE (schedule, due time)``; it is made, with its runs, in the transaction that holds
the schedules' rows and moves them on, so that a crash leaves all of it or nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from patient_ladle.core.due_decisions import LATE_AFTER, MISSED, RUN, SKIPPED, DueDecision, decide
from patient_ladle.core.errors import LadleError
from patient_ladle.service.common.bulk import copied_in, moments_set, new_object
from patient_ladle.service.schedules.models import DueTime, Schedule
from patient_ladle.service.schedules.services import bring_related

from .models import LIVE, Run
from .services import Known, due_runs
from .waiting import queue_free, settle

RECORDS = 2_000
"""Due times of one schedule recorded in one transaction: a rule of every minute over a day and a half."""
PAUSE = ["paused_at", "paused_until", "paused_by", "pause_reason"]


def record_due(schedules: Sequence[Schedule], now: datetime) -> int:
    """Record what is due of these schedules, locked by the caller, and move them on; returns the number of due times."""
    bring_related(schedules)
    decided = [(schedule, decision) for schedule in schedules for decision in _moved_on(schedule, now)]
    moments = {decision.due_at for _, decision in decided}
    numbers = [schedule.pk for schedule in schedules]
    recorded = set(DueTime.objects.filter(schedule__in=numbers, due_at__in=moments).values_list("schedule", "due_at"))
    known = Known.once()
    running = _running([schedule for schedule in schedules if schedule.overlap == "skip"])
    due_times, runs = [], []
    for schedule, decision in decided:
        if (schedule.pk, decision.due_at) not in recorded:
            due_time = new_object(
                DueTime,
                schedule=schedule,
                due_at=decision.due_at,
                data_date=decision.data_date,
                decision=decision.decision,
                reason=decision.reason,
                untold=decision.decision == MISSED and now - decision.due_at > LATE_AFTER,
            )
            runs += _runs_of(due_time, decision, running, known)
            due_times.append(due_time)
    copied_in(due_times)
    others = queue_free(runs, now)
    copied_in(runs)
    moments_set(Schedule, "next_due_at", {schedule.pk: schedule.next_due_at for schedule in schedules})
    for run in sorted(others, key=lambda run: run.due_at):
        settle(run, now)
    return len(decided)


def _moved_on(schedule: Schedule, now: datetime) -> list[DueDecision]:
    made: list[DueDecision] = []
    for decision, following in decide(schedule.timing(), schedule.next_due_at, now, schedule.catch_up(), schedule.pause()):
        made.append(decision)
        schedule.next_due_at = following
        if len(made) >= RECORDS:
            break
    if schedule.paused_until and schedule.paused_until <= now:
        schedule.lift_pause()
        schedule.save(update_fields=PAUSE)
    return made


def _running(schedules: Sequence[Schedule]) -> dict[int, Run]:
    """The first unfinished run of each of these schedules that has one."""
    found = Run.objects.filter(due_time__schedule__in=schedules, state__in=LIVE).select_related("due_time").order_by("-id")
    return {run.due_time.schedule_id: run for run in found if run.due_time is not None}


def _runs_of(due_time: DueTime, decision: DueDecision, running: dict[int, Run], known: Known) -> list[Run]:
    """The runs of a due time that is to run; where that cannot be, it becomes one that is skipped, with the reason."""
    if decision.decision != RUN:
        return []
    schedule = due_time.schedule
    try:
        before = running.get(schedule.pk) if schedule.overlap == "skip" else None
        if before is not None:
            which = f"run {before.pk}" if before.pk else "the run"
            return _skipped(due_time, f"{which} of the due time {before.due_at:%Y-%m-%d %H:%M} UTC had not ended")
        made = due_runs(due_time, late=decision.late, known=known)
    except LadleError as error:
        return _skipped(due_time, f"could not run: {error.in_words()}")
    running.setdefault(schedule.pk, made[0])
    return made


def _skipped(due_time: DueTime, reason: str) -> list[Run]:
    due_time.decision, due_time.reason = SKIPPED, reason[:400]
    return []
