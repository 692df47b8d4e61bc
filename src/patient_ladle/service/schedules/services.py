"""Adding, editing, pausing and removing schedules."""

from __future__ import annotations

from datetime import datetime
from itertools import islice
from typing import Any

from django.db import connection, transaction
from django.utils import timezone

from patient_ladle.core.calendar_rules import check_rule, check_zone, due_times, next_due
from patient_ladle.core.errors import BadInput, Conflict, unknown_name
from patient_ladle.core.formats import get_format
from patient_ladle.core.parameters import MASK, resolve
from patient_ladle.service.extracts.services import extract_named
from patient_ladle.service.extracts.shared_values import declared_by, shared_in
from patient_ladle.service.people.models import Person
from patient_ladle.service.sources.queries import address_in, environment_named
from patient_ladle.service.sources.services import check_name

from .models import Schedule


def database_now() -> datetime:
    """The one clock that all schedulers share."""
    with connection.cursor() as cursor:
        cursor.execute("select clock_timestamp()")
        found: datetime = cursor.fetchone()[0]
    return found


def schedule_named(name: str, locked: bool = False) -> Schedule:
    """Raises UnknownName."""
    present = Schedule.objects.filter(removed_at=None)
    query = present.select_for_update() if locked else present.select_related("extract", "environment", "created_by")
    found: Schedule | None = query.filter(name=name).first()
    if found is None:
        raise unknown_name("schedule", name, present.values_list("name", flat=True), "Add one: ladle schedule add.")
    return found


def next_moments(rule: str, zone: str, count: int = 5) -> list[datetime]:
    """The next due times of a rule. Raises BadInput."""
    check_rule(rule)
    check_zone(zone)
    return list(islice(due_times(rule, zone, timezone.now()), count))


def _check(schedule: Schedule) -> None:
    check_rule(schedule.rule)
    check_zone(schedule.zone)
    for name in schedule.formats:
        get_format(name)
    extract = schedule.extract
    if extract.archived_at:
        raise BadInput(f"extract '{extract.name}' is archived.", "Restore it first: ladle extract restore.")
    address_in(extract.head.source, schedule.environment)
    now = timezone.now()
    declared = declared_by(extract.head)
    resolve(declared, schedule.values, now.date(), now, shared_in(schedule.environment, declared))


def _apply(schedule: Schedule, given: dict[str, Any]) -> None:
    if "extract" in given:
        schedule.extract = extract_named(given["extract"])
    if "environment" in given:
        schedule.environment = environment_named(given["environment"])
    if "values" in given:
        private = {p.name for p in declared_by(schedule.extract.head) if p.private}
        kept = {name: schedule.values.get(name) for name, value in given["values"].items() if name in private and value == MASK}
        given = given | {"values": given["values"] | kept}
    for key in ("rule", "zone", "values", "formats"):
        if key in given:
            setattr(schedule, key, given[key])
    _check(schedule)


@transaction.atomic
def add_schedule(author: Person, name: str, **given: Any) -> Schedule:
    """A new schedule; its first due time lies after now. Raises BadInput, Conflict."""
    check_name("schedule", name)
    if Schedule.objects.filter(name=name).exists():
        raise Conflict(f"there is, or was, a schedule '{name}'.", "Choose another name: its record of due times is kept.")
    schedule = Schedule(name=name, created_by=author)
    _apply(schedule, given)
    schedule.next_due_at = next_due(schedule.rule, schedule.zone, database_now())
    schedule.save()
    return schedule


@transaction.atomic
def edit_schedule(name: str, **given: Any) -> Schedule:
    """Change a schedule; when its rule or zone changed, the next due time is reckoned from now."""
    schedule = schedule_named(name, locked=True)
    before = (schedule.rule, schedule.zone)
    _apply(schedule, given)
    if (schedule.rule, schedule.zone) != before:
        schedule.next_due_at = next_due(schedule.rule, schedule.zone, database_now())
    schedule.save()
    return schedule


@transaction.atomic
def pause_schedule(person: Person, name: str, reason: str) -> Schedule:
    """From now on its due times are recorded as skipped."""
    schedule = schedule_named(name, locked=True)
    if not schedule.paused_at:
        schedule.paused_at, schedule.paused_by, schedule.pause_reason = timezone.now(), person.name, reason[:200]
        schedule.save()
    return schedule


@transaction.atomic
def resume_schedule(name: str) -> Schedule:
    """Due times from now on run again; those skipped meanwhile stay skipped."""
    schedule = schedule_named(name, locked=True)
    schedule.paused_at, schedule.paused_by, schedule.pause_reason = None, "", ""
    schedule.save()
    return schedule


@transaction.atomic
def remove_schedule(name: str) -> None:
    """No more due times; the record of past ones stays."""
    schedule = schedule_named(name, locked=True)
    schedule.removed_at, schedule.next_due_at = timezone.now(), None
    schedule.save()
