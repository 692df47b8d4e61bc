"""Due times recorded and their runs made, many at once: ten thousand schedules may be due in the same minute.

A due time has one record, under ``UNIQUE (schedule, due time)``; it is made, with its runs, in the transaction that holds
the schedules' rows and moves them on, so that a crash leaves all of it or nothing.
"""

from __future__ import annotations

import logging
from collections.abc import Sequence
from datetime import datetime, timedelta

from django.db import transaction
from django.db.models import Q, QuerySet
from django.utils import timezone

from patient_ladle.core.errors import Conflict, LadleError
from patient_ladle.core.runs.due_decisions import DUE_TIME, LATE_AFTER, MISSED, RUN, SKIPPED, DueDecision, decide
from patient_ladle.core.values.calendars.clock import check_zone
from patient_ladle.service.alerts.models import OpenProblem
from patient_ladle.service.alerts.services import open_problem, resolve_problem
from patient_ladle.service.common.alone import AWAY
from patient_ladle.service.common.bulk import copied_in, moments_set, new_object
from patient_ladle.service.common.clock import database_now
from patient_ladle.service.ledger.making import Lookups
from patient_ladle.service.ledger.models import Run
from patient_ladle.service.ledger.states import LIVE
from patient_ladle.service.ledger.waiting import queue_free, settle
from patient_ladle.service.people.models import Person
from patient_ladle.service.schedules.models import DueTime, Schedule
from patient_ladle.service.schedules.services import bring_related, schedule_named

from .services import due_runs, queue_due_runs

log = logging.getLogger("ladle.scheduler")

RECORDS = 2_000
"""Due times of one schedule recorded in one transaction: a rule of every minute over a day and a half."""
COULD_NOT = "could not run: "
"""Begins the reason of a due time that was skipped for a fault, and not by anybody's wish."""
FIRST_WAIT, LONGEST_WAIT = timedelta(minutes=1), timedelta(minutes=15)
"""Before a schedule that was set aside is looked at again."""
MOST_LOOKS = 20
"""Pieces of so many records in which a schedule is brought up to now before it is changed."""
PAUSE = ["paused_at", "paused_until", "paused_by", "pause_reason"]


def record_due(schedules: Sequence[Schedule], now: datetime, fault: str = "") -> int:
    """Record what is due of these schedules, locked by the caller, and move them on; returns the number of due times.

    ``fault``: why none of them can run.
    """
    bring_related(schedules)
    decided = [(schedule, decision) for schedule in schedules for decision in _moved_on(schedule, now)]
    moments = {decision.due_at for _, decision in decided}
    numbers = [schedule.pk for schedule in schedules]
    recorded = set(DueTime.objects.filter(schedule__in=numbers, due_at__in=moments).values_list("schedule", "due_at"))
    known = Lookups.once()
    running = _running([schedule for schedule in schedules if schedule.while_running == "skip"])
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
            runs += _runs_of(due_time, decision, running, known, fault)
            due_times.append(due_time)
    copied_in(due_times)
    others = queue_free(runs, now)
    copied_in(runs)
    moments_set(Schedule, "next_due_at", {schedule.pk: schedule.next_due_at for schedule in schedules})
    for run in sorted(others, key=lambda run: run.due_at):
        settle(run, now)
    _tell_what_cannot_run(due_times)
    _forget_faults(schedules)
    return len(decided)


def due_now(now: datetime) -> QuerySet[Schedule]:
    """Schedules with a due time that is not recorded, but those that were set aside for a fault."""
    set_aside = Q(look_again_at__gt=now)
    return Schedule.objects.filter(next_due_at__lte=now, removed_at=None).exclude(set_aside)


def record_before(schedule: Schedule) -> datetime:
    """What is due of a schedule, locked by the caller, before a person changes it: under the rule, the calendar and the pause
    that were in force when it fell due. Returns the moment up to which all is recorded: what the change brings is reckoned
    from there, and not from a later look at the clock, between which and this one a due time may lie. Raises Conflict where
    there is too much of it at once.

    Where its runs cannot be made, its due times are recorded as skipped for that: a change must be possible, it may mend them.
    """
    for _ in range(MOST_LOOKS):
        now = database_now()
        if not schedule.next_due_at or schedule.next_due_at > now:
            return now
        before = schedule.next_due_at
        try:
            with transaction.atomic():
                record_due([schedule], now)
        except AWAY:
            raise
        except Exception as error:
            log.exception("schedule %s cannot be recorded before it is changed", schedule.name)
            schedule.next_due_at = before
            record_due([schedule], now, in_words(error))
    raise Conflict(
        f"schedule '{schedule.name}' has more due times that are not recorded yet than can be recorded at once.",
        "Wait until the scheduler has recorded them, then change it.",
    )


@transaction.atomic
def run_now(person: Person, name: str) -> DueTime:
    """The whole sequence of a schedule, as at a due time of this second, paused or not. Raises Conflict, BadInput."""
    schedule = schedule_named(name, locked=True)
    at = record_before(schedule).replace(microsecond=0)
    before = _running([schedule]).get(schedule.pk) if schedule.while_running == "skip" else None
    if before is not None:
        raise Conflict(
            f"run {before.pk} of '{name}' has not ended, and the schedule runs nothing beside it.",
            f"Wait for its end, or stop it: ladle run cancel {before.pk}.",
        )
    made, new = DueTime.objects.get_or_create(
        schedule=schedule,
        due_at=at,
        defaults={
            "data_date": at.astimezone(check_zone(schedule.zone)).date(),
            "decision": RUN,
            "reason": f"started by {person.name}",
        },
    )
    if not new:
        raise Conflict(f"'{name}' has a due time of this very second.", "Try again in a moment.")
    made.schedule = schedule
    queue_due_runs(made, started_by=person)
    return made


def in_words(error: Exception) -> str:
    """A fault as a record has it."""
    return error.in_words() if isinstance(error, LadleError) else f"{type(error).__name__}: a fault of the service's own."


def set_aside(schedule: Schedule, error: Exception) -> None:
    """Its due times cannot be recorded: that is its own problem, and is tried again later. Nothing of them is lost."""
    now = timezone.now()
    words = in_words(error)
    since = schedule.fault_at or now
    wait = min(max(now - since, FIRST_WAIT), LONGEST_WAIT)
    Schedule.objects.filter(pk=schedule.pk).update(fault=words[:400], fault_at=since, look_again_at=now + wait)
    open_problem(
        f"schedule:{schedule.pk}", "not_run", f"{schedule.name}: its due times cannot be recorded", words,
        "The service's log has the details. It is tried again; nothing of it is lost.", _page_of(schedule), mark=words,
    )  # fmt: skip


def _page_of(schedule: Schedule) -> str:
    return f"/schedules/{schedule.name}"


def _forget_faults(schedules: Sequence[Schedule]) -> None:
    for schedule in schedules:
        if schedule.fault:
            schedule.fault, schedule.fault_at, schedule.look_again_at = "", None, None
            schedule.save(update_fields=["fault", "fault_at", "look_again_at"])
            resolve_problem(
                f"schedule:{schedule.pk}",
                f"{schedule.name}: its due times are recorded again",
                "",
                _page_of(schedule),
            )


def _tell_what_cannot_run(due_times: Sequence[DueTime]) -> None:
    """Due times without a run for a reason that a person can mend, once until it changes; and when they run again."""
    latest = {due_time.schedule_id: due_time for due_time in due_times if due_time.decision in (RUN, SKIPPED)}
    known = OpenProblem.objects.filter(key__in=[f"due-times:{number}" for number in latest], ended_at=None)
    troubled = set(known.values_list("key", flat=True))
    for number, due_time in latest.items():
        schedule, key = due_time.schedule, f"due-times:{number}"
        if due_time.decision == SKIPPED and due_time.reason.startswith(COULD_NOT):
            cause = due_time.reason.removeprefix(COULD_NOT)
            hint = "Mend that, or pause or remove the schedule: until then its due times are skipped."
            open_problem(
                key,
                "not_run",
                f"{schedule.name}: its due times do not run",
                cause,
                hint,
                _page_of(schedule),
                mark=cause,
            )
        elif key in troubled and due_time.decision == RUN:
            resolve_problem(key, f"{schedule.name}: its due times run again", "", _page_of(schedule))


def _moved_on(schedule: Schedule, now: datetime) -> list[DueDecision]:
    made: list[DueDecision] = []
    if schedule.next_due_at is None:
        return made
    for decision, following in decide(schedule.timing(), schedule.next_due_at, now, schedule.catching_up(), schedule.pause()):
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


def _runs_of(due_time: DueTime, decision: DueDecision, running: dict[int, Run], known: Lookups, fault: str) -> list[Run]:
    """The runs of a due time that is to run; where that cannot be, it becomes one that is skipped, with the reason."""
    if decision.decision != RUN:
        return []
    if fault:
        return _skipped(due_time, f"{COULD_NOT}{fault}")
    schedule = due_time.schedule
    try:
        before = running.get(schedule.pk) if schedule.while_running == "skip" else None
        if before is not None:
            which = f"run {before.pk}" if before.pk else "the run"
            return _skipped(due_time, f"{which} of the due time {before.due_at:%Y-%m-%d %H:%M} UTC had not ended")
        made = due_runs(due_time, late=decision.late, known=known)
    except LadleError as error:
        return _skipped(due_time, f"{COULD_NOT}{error.in_words()}")
    running.setdefault(schedule.pk, made[0])
    return made


def _skipped(due_time: DueTime, reason: str) -> list[Run]:
    DUE_TIME.move(due_time, "skip", reason=reason[:400])
    return []
