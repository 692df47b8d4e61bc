"""Runs for past due times of a schedule, asked for together: first what it would do, then it, cancelled or repeated as one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from datetime import date, datetime, timedelta
from itertools import takewhile
from typing import Any

from django.db import transaction
from django.utils import timezone

from patient_ladle.core.errors import BadInput, Conflict, NotFound
from patient_ladle.core.files.naming import holds, stem
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.runs.due_decisions import DUE_TIME, RUN
from patient_ladle.core.values.calendars.clock import before_day, check_order, check_zone
from patient_ladle.service.ledger.models import Backfill, Run
from patient_ladle.service.ledger.states import ENDED, FINISHED, LIVE, REJECTED
from patient_ladle.service.people.models import Person
from patient_ladle.service.schedules.models import PRIORITIES, DueTime, Schedule
from patient_ladle.service.schedules.services import schedule_named
from patient_ladle.words import spaced

from .services import cancel_run, due_runs, queue_due_runs

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


def planned(name: str, first: date, last: date, again: bool = False, deliver: bool = True) -> list[dict[str, Any]]:
    """Every due time of those local dates up to now, and what a backfill would do about it. Raises BadInput."""
    schedule = schedule_named(name)
    zone = check_zone(schedule.zone)
    moments = _moments(schedule, first, last)
    records = {d.due_at: d for d in schedule.due_times.filter(due_at__in=moments).prefetch_related("runs")}
    plans = [_plan(moment, moment.astimezone(zone).date(), records.get(moment), again) for moment in moments]
    if deliver:
        _refuse_shared_names(schedule, [plan for plan in plans if plan["runs"]])
    return plans


def _plan(moment: datetime, data_date: date, record: DueTime | None, again: bool) -> dict[str, Any]:
    runs: list[Run] = sorted(record.runs.all(), key=lambda run: run.pk) if record else []
    newest = runs[-1] if runs else None
    if newest is None:
        does, why = True, f"{record.decision}: {record.reason}" if record else "no record of it"
    elif newest.state not in ENDED:
        does, why = False, f"run {newest.pk} is {spaced(newest.state)}"
    elif whole := _whole(runs):
        does, why = again, f"run {whole.pk} has finished"
    else:
        does, why = True, f"run {newest.pk} is {spaced(newest.state)}"
    return {"due_at": moment, "data_date": data_date, "runs": does, "why": why, "run": newest.pk if newest else None}


@transaction.atomic
def backfill(person: Person, name: str, first: date, last: date, again: bool = False, deliver: bool = True) -> Backfill:
    """What was planned, at low priority and within the limits of the sources; a due time keeps its one record.

    ``deliver``: false keeps the results in the store only. Raises BadInput, Conflict where nothing is left to do.
    """
    schedule = schedule_named(name, locked=True)
    plans = [plan for plan in planned(name, first, last, again, deliver) if plan["runs"]]
    if not plans:
        raise Conflict(
            f"no due time of '{name}' in those days is left to run.", "Ask for those that have finished, too: --again."
        )
    made = Backfill.objects.create(
        schedule=schedule, person=person, first=first, last=last, again=again, deliver=deliver
    )  # fmt: skip
    for plan in plans:
        note = f"backfilled by {person.name}"
        due_time, new = DueTime.objects.get_or_create(
            schedule=schedule,
            due_at=plan["due_at"],
            defaults={"data_date": plan["data_date"], "decision": RUN, "reason": note},
        )
        if not new:
            reason = f"{note} ({due_time.decision}: {due_time.reason})"[:400]
            due_time.save(update_fields=DUE_TIME.move(due_time, "run after all", reason=reason))
        due_time.schedule = schedule
        _runs_for(due_time, made)
    return made


def backfill_numbered(number: int) -> Backfill:
    """Raises NotFound."""
    found = Backfill.objects.select_related("schedule", "person").filter(pk=number).first()
    if found is None:
        raise NotFound(f"there is no backfill {number}.", "List them: ladle backfill list.")
    return found


def cancel_backfill(person: Person, number: int) -> Backfill:
    """All of its runs that have not ended; what has finished stays. Raises Conflict, NotFound."""
    found = backfill_numbered(number)
    live = list(found.runs.filter(state__in=LIVE).order_by("-step", "pk").values_list("pk", flat=True))
    if not live:
        raise Conflict(f"backfill {number} has ended.", "There is nothing left to cancel.")
    Backfill.objects.filter(pk=number).update(cancelled_by=person.name)
    for run in live:
        with suppress(Conflict):  # it has ended meanwhile
            cancel_run(person, run)
    return backfill_numbered(number)


def repeat_backfill(person: Person, number: int) -> Backfill:
    """The same days once more: those that have not finished, or all where it was one of all. Raises BadInput, Conflict."""
    old = backfill_numbered(number)
    if old.runs.filter(state__in=LIVE).exists():
        raise Conflict(f"backfill {number} has not ended yet.", f"Wait, or cancel it: ladle backfill cancel {number}.")
    return backfill(person, old.schedule.name, old.first, old.last, old.again, old.deliver)


def _refuse_shared_names(schedule: Schedule, plans: Sequence[Mapping[str, Any]]) -> None:
    """No two of these due times, nor one of them and the schedule's latest, may be delivered under one name: which of them
    stood there in the end would be chance. Raises BadInput."""
    latest = schedule.due_times.filter(decision=RUN).order_by("-due_at").values_list("due_at", "data_date").first()
    moments = dict([*([latest] if latest else []), *((plan["due_at"], plan["data_date"]) for plan in plans)])
    names: dict[tuple[str, str], datetime] = {}
    for due_at, data_date in sorted(moments.items()):
        for run in due_runs(DueTime(schedule=schedule, due_at=due_at, data_date=data_date)):
            revision = run.revision
            manner = OutputSettings.from_dict(revision.output).files.get("if_exists", "overwrite")
            if not run.delivers_into or manner != "overwrite" or holds(revision.file_name, "run"):
                continue
            name = stem(revision.file_name, _name_fields(run))
            if (other := names.setdefault((run.extract.name, name), due_at)) != due_at:
                zone = check_zone(schedule.zone)
                days = " and ".join(f"{at.astimezone(zone):%Y-%m-%d %H:%M}" for at in (other, due_at))
                raise BadInput(
                    f"the due times {days} would both be delivered as '{name}', one over the other.",
                    "Give the file name a date that tells them apart, or keep the results in the store only: --store-only.",
                )


def _name_fields(run: Run) -> dict[str, Any]:
    of_values = {f"value.{name}": value for name, value in run.values_in_effect.items()}
    return {"extract": run.extract.name, "folder": run.extract.folder, "environment": run.environment.name,
            "data_date": run.data_date, **of_values}  # fmt: skip


def _whole(runs: Sequence[Run]) -> Run | None:
    """The newest run of a due time each of whose steps has finished in some turn: it was mended, and needs no other."""
    steps: dict[int, Run | None] = {run.step: None for run in runs}
    for run in runs:
        if run.state == FINISHED and run.held != REJECTED:
            steps[run.step] = run
    return None if None in steps.values() else max(filter(None, steps.values()), key=lambda run: run.pk)


def _runs_for(due_time: DueTime, of: Backfill) -> list[Run]:
    """Its first runs, or another turn of those it had, compared with them."""
    earlier = {run.step: run for run in due_time.runs.order_by("turn")}
    turn = max((run.turn for run in earlier.values()), default=-1) + 1
    low = PRIORITIES["low"]
    return queue_due_runs(
        due_time, earlier, started_by=of.person, priority=low, backfill=True, of_backfill=of, turn=turn, finish_by=None,
        store_only=not of.deliver,
    )  # fmt: skip
