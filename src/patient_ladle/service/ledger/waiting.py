"""Runs that wait: for an earlier run of their schedule, for those before them, for a retry, for quiet hours to end.

Rules and theory
----------------
* A waiting run is looked at again when its moment has come, and at once when a run that it may wait for has ended.
  The first alone would do; the second saves seconds.
* What it waits for is worked out anew each time from the ledger, never from a note made earlier.
* A run whose predecessor will not finish any more is *not run*, with the cause; so is one that has waited for longer
  than its schedule gives it.
"""

from __future__ import annotations

import logging
from collections.abc import Sequence
from datetime import datetime, timedelta

from django.db import transaction
from django.db.models import Q, QuerySet
from django.utils import timezone

from patient_ladle.core.errors import LadleError
from patient_ladle.service.common.alone import one_by_one
from patient_ladle.service.extracts.models import Extract
from patient_ladle.service.schedules.models import DueTime, Schedule
from patient_ladle.service.sources.models import Source
from patient_ladle.service.sources.reading import quiet_until
from patient_ladle.words import spaced

from . import members
from .alarms import nobody_can_run, run_ended, run_is_late, tell_of_backfill
from .models import SOURCE_CODES, STORE_CODES, Run
from .reaching import why_nobody
from .run_log import add_log, wake_workers
from .states import (
    CANCELLED,
    DELIVERY_OPEN,
    ENDED,
    FAILED,
    FINISHED,
    HELD,
    LIVE,
    NOT_DELIVERED,
    QUEUED,
    REJECTED,
    RUN,
    WAITING,
)

log = logging.getLogger("ladle.waiting")

LOOK_AGAIN = timedelta(seconds=5)
AFTER_FAULT = timedelta(minutes=1)
BATCH = 200
"""Runs looked at in one transaction."""
PRIORITY_WORTH = timedelta(minutes=10)
"""A run of a higher priority goes before those that were queued up to so much earlier, so none waits for ever."""


def quiet_sources(now: datetime) -> list[int]:
    """Ids of the sources that are left alone now; also of one whose quiet hours cannot be read, for its own sake alone."""
    return [source.pk for source in Source.objects.exclude(quiet_hours="") if _is_quiet(source, now)]


def _is_quiet(source: Source, now: datetime) -> bool:
    try:
        return quiet_until(source, now) is not None
    except LadleError as error:
        log.error("the quiet hours of source %s cannot be read, so nothing reads it: %s", source.name, error.in_words())
        return True


def unfinished_of(schedule: Schedule) -> QuerySet[Run]:
    """The runs of a schedule that have not ended."""
    return Run.objects.filter(due_time__schedule=schedule, state__in=LIVE)


def _blocker(run: Run) -> tuple[str, str]:
    """What the run waits for in words, and the cause for which it will never run; at most one of them is set."""
    if run.due_time is None:
        return "", ""
    before = _blocker_in_order(run, run.due_time)
    return before if any(before) else _blocker_by_extract(run)


def _blocker_in_order(run: Run, due_time: DueTime) -> tuple[str, str]:
    """Of the step before it, or of an earlier due time."""
    if run.step > 1:
        before = Run.objects.filter(due_time=due_time, turn=run.turn, step=run.step - 1).select_related("extract").first()
        if before is None:
            return "", f"step {run.step - 1} of the sequence has no run"
        if before.state not in ENDED:
            return f"step {before.step}, run {before.pk} of {before.extract.name}", ""
        if before.state != FINISHED or before.held == REJECTED:
            return "", f"step {before.step}, run {before.pk} of {before.extract.name}, is {spaced(before.held or before.state)}"
        if open_words := _still_open(before):
            return f"step {before.step}, run {before.pk} of {before.extract.name}, {open_words}", ""
    elif due_time.schedule.while_running == "wait" and not run.backfill:
        earlier = unfinished_of(due_time.schedule).filter(due_at__lt=run.due_at).order_by("due_at").first()
        if earlier is not None:
            return f"run {earlier.pk} of the due time {earlier.due_at:%Y-%m-%d %H:%M} UTC, which has not ended", ""
    return "", ""


def _blocker_by_extract(run: Run) -> tuple[str, str]:
    """Of the extracts that its own depends on."""
    for extract in run.extract.depends_on.all():
        runs = Run.objects.filter(extract=extract, environment=run.environment, data_date=run.data_date)
        newest = runs.order_by("-id").first()
        if newest is None:
            return f"a run of {extract.name} for {run.data_date.isoformat()}", ""
        if newest.state not in ENDED:
            return f"run {newest.pk} of {extract.name}", ""
        if runs.filter(state=FINISHED).exclude(held__in=NOT_DELIVERED).exclude(delivery__in=DELIVERY_OPEN).exists():
            continue
        if open_words := _still_open(newest):
            return f"run {newest.pk} of {extract.name} {open_words}", ""
        return "", f"run {newest.pk} of {extract.name} for {run.data_date.isoformat()} is {spaced(newest.held or newest.state)}"
    return "", ""


def _still_open(run: Run) -> str:
    """What of a finished run is not over, in words: its delivery is its end for those that wait for it."""
    if run.held == HELD:
        return "to be released"
    return "to be delivered" if run.delivery in DELIVERY_OPEN else ""


def settle(run: Run, now: datetime) -> None:
    """Look at a waiting run, locked: queue it, let it wait on, or end it as not run."""
    if run.not_before and now < run.not_before:
        run.wait_until = run.not_before
        run.save(update_fields=["wait_until"])
        return
    waits, never = _blocker(run)
    told_already = bool(never)
    if not never and waits and run.give_up_at and now >= run.give_up_at:
        never = f"it waited for {waits} until {run.give_up_at:%Y-%m-%d %H:%M} UTC"
    quiet = None if never or waits else quiet_until(run.source, now)
    if not (never or waits) and run.give_up_at and now >= run.give_up_at and (why := why_nobody(run)):
        never = f"no worker could run it until {run.give_up_at:%Y-%m-%d %H:%M} UTC ({why})"
    if not (never or waits or quiet) and run.revision.inputs:
        waits, never = _inputs(run, now)
        if never and run.state == FAILED:
            return
    if never:
        end_as_not_run(run, never, told_already)
    elif waits or quiet:
        waits = waits or f"the quiet hours of source {run.source_name} to end"
        if waits != run.waits_for:
            add_log(run, "info", f"waits for {waits}")
        run.waits_for, run.wait_until = waits[:400], quiet or now + LOOK_AGAIN
        run.save(update_fields=["waits_for", "wait_until"])
    else:
        run.save(update_fields=_put_into_queue(run, now))
        wake_workers()


def _inputs(run: Run, now: datetime) -> tuple[str, str]:
    """What of its inputs a combination waits for, and why it is given up; made are those that can be. A run that has lost one
    has failed."""
    found = members.look(run)
    for member in found.made:
        add_log(run, "info", f"input {_input_of(run, member)}: run {member.pk} of {member.extract.name} was made")
        settle(member, now)
    if found.failed is not None:
        RUN.move(run, "lose an input", error=found.failed.to_dict(), ended_at=now)
        run.save()
        add_log(run, "error", found.failed.in_words())
        run_ended(run, told_already=found.cause in (*SOURCE_CODES, *STORE_CODES))
        tell_followers(run)
        _stop_members(run, f"run {run.pk}")
        return "", "lost"
    waits = "; ".join(found.waits)
    if waits and run.give_up_at and now >= run.give_up_at:
        return "", f"it waited for {waits} until {run.give_up_at:%Y-%m-%d %H:%M} UTC"
    return waits, ""


def _input_of(run: Run, member: Run) -> str:
    return ", ".join(each["name"] for each in run.inputs if each["run"] == member.pk)


def stop(run: Run, by: str) -> None:
    """Ask a run, locked, to stop: at once where no worker has it; its inputs with it. ``by``: a person, or another run."""
    run.cancel_asked_by = run.cancel_asked_by or by
    if run.state in (WAITING, QUEUED):
        RUN.move(run, "cancel", ended_at=timezone.now())
    run.save()
    add_log(run, "warning", f"{by} asked for the run to stop")
    if run.state == CANCELLED:
        if run.of_backfill_id is not None:
            tell_of_backfill(run)
        tell_followers(run)
    _stop_members(run, by)


def _stop_members(run: Run, by: str) -> None:
    if run.revision.inputs:
        for member in run.members.select_for_update(of=("self",)).filter(state__in=LIVE):
            stop(member, by)


def _put_into_queue(run: Run, now: datetime) -> tuple[str, ...]:
    return RUN.move(run, "queue", queue_order=now - run.priority * PRIORITY_WORTH)


def queue_free(runs: Sequence[Run], now: datetime) -> list[Run]:
    """Of runs of due times, not saved yet: queue those that plainly wait for nothing; returns the others, to be settled once
    they are saved. A row that is written once has its references checked once."""
    quiet = set(quiet_sources(now))
    extracts = {run.extract_id for run in runs}
    followers = set(Extract.objects.filter(pk__in=extracts, depends_on__isnull=False).values_list("pk", flat=True))
    orderly = {run.due_time.schedule_id for run in runs if run.due_time and run.due_time.schedule.while_running == "wait"}
    live = Run.objects.filter(state__in=LIVE, due_time__schedule__in=orderly)
    busy = set(live.values_list("due_time__schedule", flat=True).distinct())
    others = []
    for run in runs:
        number = run.due_time.schedule_id if run.due_time else None
        waits = run.step > 1 or number in busy or run.extract_id in followers or run.source_id in quiet
        waits = waits or bool(run.revision.inputs)
        if waits or (run.not_before and now < run.not_before):
            others.append(run)
        else:
            _put_into_queue(run, now)
        if number in orderly:
            busy.add(number)
    if len(others) < len(runs):
        wake_workers()
    return others


def end_as_not_run(run: Run, cause: str, told_already: bool) -> None:
    """Its last word; those that wait for it learn of it when this transaction is done."""
    words = f"not run: {cause}."
    RUN.move(run, "give up", ended_at=timezone.now(), error={
        "code": "not_run", "message": words, "hint": f"Fix the cause, then: ladle run again {run.pk}",
        "transient": False, "facts": {},
    })  # fmt: skip
    run.save()
    add_log(run, "error", words)
    run_ended(run, told_already)
    tell_followers(run)
    _stop_members(run, f"run {run.pk}")


def settle_due(now: datetime) -> int:
    """Look at the waiting runs whose moment has come; returns how many were looked at."""
    with transaction.atomic():
        found = list(
            Run.objects.select_for_update(skip_locked=True, of=("self",))
            .filter(state=WAITING, wait_until__lte=now)
            .select_related("source", "extract", "revision", "due_time__schedule")
            .order_by("wait_until")[:BATCH]
        )
        one_by_one(found, lambda run: settle(run, now), "looking at a waiting run", _wait_on)
    return len(found)


def _wait_on(run: Run, _: Exception) -> None:
    """A run that met a fault of our own while it waited is looked at later, and says so."""
    Run.objects.filter(pk=run.pk).update(wait_until=timezone.now() + AFTER_FAULT)
    add_log(run, "error", "a fault of the service's own was met while it waited; its log has the details. It is tried again.")


def tell_followers(run: Run) -> None:
    """Once this transaction is done, those that may wait for the run are looked at at once."""
    if run.due_time_id is None and run.member_of_id is None and not run.extract.before.exists():
        return
    transaction.on_commit(lambda: _look_at_followers(run))


@transaction.atomic
def _look_at_followers(run: Run) -> None:
    theirs = Q(pk=run.member_of_id) if run.member_of_id else Q()
    if run.due_time_id is not None:
        theirs |= Q(due_time=run.due_time_id, turn=run.turn, step=run.step + 1)
    theirs |= Q(extract__depends_on=run.extract_id, data_date=run.data_date, environment=run.environment_id)
    if run.due_time is not None:
        theirs |= Q(due_time__schedule=run.due_time.schedule_id, step=1)
    numbers = Run.objects.filter(theirs, state=WAITING).order_by("due_at", "id").values_list("pk", flat=True)[:BATCH]
    locked = Run.objects.select_for_update(skip_locked=True, of=("self",)).filter(pk__in=list(numbers), state=WAITING)
    one_by_one(locked, lambda waiting: settle(waiting, timezone.now()), "looking at a follower", _wait_on)


def nobody_can(run: Run, why: str, of_targets: bool) -> None:
    """No worker can carry out the queued run, locked. What somebody started by hand ends; what was due waits, is looked at
    again each minute, and people are told."""
    asked, now = run, timezone.now()
    while asked.member_of is not None:
        asked = asked.member_of
    RUN.move(run, "leave the queue", wait_until=now + AFTER_FAULT)
    if asked.due_time is None:
        end_as_not_run(run, f"no worker can run it ({why})", told_already=False)
        return
    add_log(run, "warning", f"no worker can run it: {why}")
    run.waits_for = f"a worker that can run it ({why})"[:400]
    run.save()
    nobody_can_run(run, why, of_targets)


def hold_quiet_sources(now: datetime) -> None:
    """Queued runs of sources whose quiet hours have begun wait."""
    with transaction.atomic():
        held = Run.objects.select_for_update(skip_locked=True, of=("self",)).filter(state=QUEUED, source__in=quiet_sources(now))
        one_by_one(held.select_related("source")[:BATCH], lambda run: _hold(run, now), "holding a run of a quiet source")


def _hold(run: Run, now: datetime) -> None:
    run.save(update_fields=RUN.move(run, "leave the queue", wait_until=now))
    settle(run, now)


def mark_late(now: datetime) -> int:
    """Flag the runs that have passed the moment they were to be finished by; returns how many."""
    with transaction.atomic():
        found = Run.objects.select_for_update(skip_locked=True, of=("self",)).filter(finish_by__lt=now, late=False)
        late = list(found.exclude(Q(state__in=ENDED) & ~Q(delivery__in=DELIVERY_OPEN))[:BATCH])
        one_by_one(late, _mark_late, "marking a late run", lambda run, _: Run.objects.filter(pk=run.pk).update(late=True))
    return len(late)


def _mark_late(run: Run) -> None:
    run.late = True
    run.save(update_fields=["late"])
    run_is_late(run)
    add_log(run, "warning", f"late: it was to be finished by {run.finish_by:%Y-%m-%d %H:%M} UTC")
