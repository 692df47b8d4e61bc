"""Adding, editing, pausing and removing schedules."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date, datetime, timedelta
from itertools import islice
from typing import Any

from django.db import transaction
from django.db.models import Q, QuerySet
from django.utils import timezone

from patient_ladle.core.errors import BadInput, Conflict, unknown_name
from patient_ladle.core.files.formats import get_format
from patient_ladle.core.runs.due_decisions import POLICIES, finish_by
from patient_ladle.core.values.calendars.clock import check_zone
from patient_ladle.core.values.calendars.timing import Timing
from patient_ladle.core.values.parameters import MASK
from patient_ladle.service.common.clock import database_now, default_zone
from patient_ladle.service.common.names import check_name
from patient_ladle.service.common.targets import targets_of
from patient_ladle.service.extracts.delivered_names import refuse_meetings, sent_by
from patient_ladle.service.extracts.models import Extract, with_heads
from patient_ladle.service.extracts.named import repository_extract
from patient_ladle.service.extracts.sensitive_values import opened, sealed
from patient_ladle.service.extracts.shared_values import shared_in
from patient_ladle.service.lookups.services import resolved
from patient_ladle.service.people.models import Person
from patient_ladle.service.sources.models import Environment
from patient_ladle.service.sources.queries import environment_named
from patient_ladle.service.sources.reading import Reading

from .models import PRIORITIES, WHILE_RUNNING, HolidayCalendar, Schedule, SequenceStep


def _record_nothing(schedule: Schedule) -> datetime:
    raise RuntimeError("the service is not loaded: nobody records due times")


record_before: Callable[[Schedule], datetime] = _record_nothing
"""Records what of a locked schedule fell due before it is changed, and says up to when. Whoever records due times puts it
here."""


def schedule_named(name: str, locked: bool = False) -> Schedule:
    """Raises UnknownName."""
    present = Schedule.objects.filter(removed_at=None)
    query = present.select_for_update() if locked else schedules_with().select_related("extract", "environment", "calendar")
    found: Schedule | None = query.filter(name=name).first()
    if found is None:
        raise unknown_name("schedule", name, present.values_list("name", flat=True), "Add one: ladle schedule add.")
    return found


def schedules_with(search: str = "") -> QuerySet[Schedule]:
    """All schedules, or those with that text in their name, or in the name or folder of an extract that they run."""
    found = Schedule.objects.filter(removed_at=None).select_related("created_by")
    if not search:
        return found
    extracts = Extract.objects.filter(Q(name__icontains=search) | Q(folder__icontains=search))
    later = SequenceStep.objects.filter(extract__in=extracts).values("schedule")
    return found.filter(Q(name__icontains=search) | Q(extract__in=extracts) | Q(pk__in=later))


def bring_related(schedules: Sequence[Schedule]) -> None:
    """Give each its environment, calendar and extracts with their newest revisions, in a few queries however many schedules
    there are."""
    numbers = {schedule.pk for schedule in schedules}
    steps: dict[int, list[SequenceStep]] = {number: [] for number in numbers}
    for step in SequenceStep.objects.filter(schedule__in=numbers).order_by("place"):
        steps[step.schedule_id].append(step)
    wanted = {schedule.extract_id for schedule in schedules} | {step.extract_id for some in steps.values() for step in some}
    extracts = {extract.pk: extract for extract in with_heads(Extract.objects.filter(pk__in=wanted), ["source"])}
    environments = Environment.objects.in_bulk({schedule.environment_id for schedule in schedules})
    calendars = HolidayCalendar.objects.in_bulk({schedule.calendar_id for schedule in schedules if schedule.calendar_id})
    for schedule in schedules:
        schedule.environment = environments[schedule.environment_id]
        schedule.calendar = calendars[schedule.calendar_id] if schedule.calendar_id else None
        schedule.extract = extracts[schedule.extract_id]
        schedule.known_steps = steps[schedule.pk]
        for step in steps[schedule.pk]:
            step.extract = extracts[step.extract_id]


def calendar_named(name: str) -> HolidayCalendar:
    """Raises UnknownName."""
    found = HolidayCalendar.objects.filter(name=name).first()
    if found is None:
        known = HolidayCalendar.objects.values_list("name", flat=True)
        raise unknown_name("calendar", name, known, "Add one: ladle calendar add.")
    return found


def save_calendar(author: Person, name: str, country: str = "", region: str = "", text: str = "") -> HolidayCalendar:
    """A new calendar of holidays, or another content for one that is there. Raises BadInput, UnknownName."""
    check_name("calendar", name)
    if bool(country) == bool(text):
        raise BadInput("a calendar is a country's or an iCalendar file's.", "Give a country, such as GB, or a file; not both.")
    content = {"country": country.upper(), "region": region.upper(), "text": text}
    HolidayCalendar(**content).days()  # before anything is locked: reckoning the days of a country takes its time
    return _saved_calendar(author, name, content)


@transaction.atomic
def _saved_calendar(author: Person, name: str, content: dict[str, str]) -> HolidayCalendar:
    found = HolidayCalendar.objects.filter(name=name).first() or HolidayCalendar(name=name, created_by=author)
    schedules = list(found.schedules.filter(removed_at=None).select_for_update(of=("self",))) if found.pk else []
    recorded_until = {schedule.pk: record_before(schedule) for schedule in schedules}
    for field, value in content.items():
        setattr(found, field, value)
    found.save()
    for schedule in schedules:
        schedule.calendar = found
        schedule.next_due_at = schedule.timing().next_due(recorded_until[schedule.pk])
        schedule.save(update_fields=["next_due_at"])
    return found


def remove_calendar(name: str) -> None:
    """Raises Conflict while schedules use it."""
    found = calendar_named(name)
    users = list(found.schedules.filter(removed_at=None).values_list("name", flat=True)[:5])
    if users:
        raise Conflict(f"calendar '{name}' is in use: {', '.join(users)}.", "Give those schedules another calendar first.")
    found.schedules.update(calendar=None)
    found.delete()


TIMING = ("rule", "zone", "first_date", "last_date", "exceptions", "calendar", "on_holiday")
"""What of a schedule decides its moments."""
_OTHER = (
    "values", "formats", "catch_up", "catch_up_hours", "catch_up_limit", "while_running", "spread_seconds", "attempts",
    "timeout_minutes",
    "finish_by", "priority", "deliver_into",
)  # fmt: skip


def timing_of(given: dict[str, Any]) -> Timing:
    """The moments of a rule that is not saved. Raises BadInput, UnknownName."""
    schedule = Schedule(rule="", zone=default_zone())
    _apply_timing(schedule, given)
    timing = schedule.timing()
    timing.check(timezone.now())
    return timing


def _apply_timing(schedule: Schedule, given: dict[str, Any]) -> None:
    for key in TIMING:
        if key in given and key != "calendar":
            setattr(schedule, key, given[key])
    if "calendar" in given:
        schedule.calendar = calendar_named(given["calendar"]) if given["calendar"] else None
    schedule.exceptions = sorted({day.isoformat() if isinstance(day, date) else day for day in schedule.exceptions})


def _check_values(schedule: Schedule, extract: Extract, values: dict[str, Any]) -> None:
    if extract.archived_at:
        raise BadInput(f"extract '{extract.name}' is archived.", "Restore it first: ladle extract restore.")
    Reading(extract.head.source, schedule.environment).address()
    now = timezone.now()
    declared = extract.head.declared
    resolved(declared, opened(values), now.date(), now, shared_in(schedule.environment, declared))


LONGEST_NIGHT = timedelta(hours=18)
"""Between a start and the time that a run is to be finished by: a later one is on the wrong side of the start."""


def _check_finish(schedule: Schedule) -> None:
    """Of schedules that begin at one time of day: those of many times pass it in between. Raises BadInput."""
    if schedule.finish_by is None:
        return
    zone = check_zone(schedule.zone)
    moments = list(islice(schedule.timing().due_times(timezone.now()), 5))
    walls = {moment.astimezone(zone).time() for moment in moments}
    if len(walls) == 1 and finish_by(moments[0], schedule.zone, schedule.finish_by) - moments[0] > LONGEST_NIGHT:
        start, by = f"{walls.pop():%H:%M}", f"{schedule.finish_by:%H:%M}"
        raise BadInput(
            f"runs begin at {start}, and were to be finished by {by}: that is before they begin, or a day later.",
            "Give a time after the start, at most 18 hours later.",
            field="finish_by",
        )


def _check(schedule: Schedule) -> None:
    schedule.timing().check(timezone.now())
    _check_finish(schedule)
    for name in schedule.formats:
        get_format(name)
    targets_of(schedule.deliver_into)
    for given, known, kind in (
        (schedule.catch_up, POLICIES, "catch_up policy"),
        (schedule.while_running, WHILE_RUNNING, "while_running policy"),
        (schedule.priority, tuple(PRIORITIES), "priority"),
    ):
        if given not in known:
            raise unknown_name(kind, given, known)
    _check_values(schedule, schedule.extract, schedule.values)


def _kept_private(extract: Extract, values: dict[str, Any], before: dict[str, Any]) -> dict[str, Any]:
    """A mask that is sent back keeps the value that it hides."""
    sensitive = {p.name for p in extract.head.declared if p.sensitive}
    return values | {name: before.get(name) for name, value in values.items() if name in sensitive and value == MASK}


def _apply(schedule: Schedule, given: dict[str, Any]) -> None:
    if "extract" in given:
        schedule.extract = repository_extract(given["extract"])
    if "environment" in given:
        schedule.environment = environment_named(given["environment"])
    if "values" in given:
        given = given | {"values": _kept_private(schedule.extract, given["values"], schedule.values)}
    _apply_timing(schedule, given)
    for key in _OTHER:
        if key in given:
            setattr(schedule, key, given[key])
    _check(schedule)
    schedule.values = sealed(schedule.extract.head.declared, schedule.values)


def _save_steps(schedule: Schedule, steps: list[dict[str, Any]]) -> None:
    """The extracts after the first, in their order."""
    before = {step.extract_id: step.values for step in schedule.steps.all()}
    schedule.steps.all().delete()
    for place, given in enumerate(steps, 2):
        extract = repository_extract(given["extract"])
        values = _kept_private(extract, given.get("values") or {}, before.get(extract.pk, {}))
        formats = list(given.get("formats") or [])
        for name in formats:
            get_format(name)
        _check_values(schedule, extract, values)
        kept = sealed(extract.head.declared, values)
        SequenceStep.objects.create(schedule=schedule, place=place, extract=extract, values=kept, formats=formats)


@transaction.atomic
def add_schedule(author: Person, name: str, then: list[dict[str, Any]] | None = None, **given: Any) -> Schedule:
    """A new schedule; its first due time lies after now. Raises BadInput, Conflict."""
    check_name("schedule", name)
    if Schedule.objects.filter(name=name).exists():
        raise Conflict(f"there is, or was, a schedule '{name}'.", "Choose another name: its record of due times is kept.")
    schedule = Schedule(name=name, created_by=author)
    _apply(schedule, given)
    schedule.next_due_at = schedule.timing().next_due(database_now())
    schedule.save()
    _save_steps(schedule, then or [])
    _refuse_meetings(schedule)
    return schedule


def _refuse_meetings(schedule: Schedule) -> None:
    """Raises BadInput where it would deliver under a name of another schedule."""
    ours = sent_by(schedule)
    if any(sent.targets for sent in ours):
        others = list(Schedule.objects.filter(removed_at=None).exclude(pk=schedule.pk))
        bring_related(others)
        refuse_meetings(ours, (sent for other in others for sent in sent_by(other)))


@transaction.atomic
def edit_schedule(name: str, then: list[dict[str, Any]] | None = None, **given: Any) -> Schedule:
    """Change a schedule; when its moments changed, the next due time is reckoned from now, and what fell due before it
    is recorded under the rule that was in force."""
    schedule = schedule_named(name, locked=True)
    recorded_until = record_before(schedule)
    before = schedule.timing()
    _apply(schedule, given)
    if schedule.timing() != before:
        schedule.next_due_at = schedule.timing().next_due(recorded_until)
    schedule.save()
    if then is not None:
        _save_steps(schedule, then)
    if given or then is not None:
        _refuse_meetings(schedule)
    return schedule


@transaction.atomic
def pause_schedule(person: Person, name: str, reason: str, until: datetime | None = None) -> Schedule:
    """From now on, or until then, its due times are recorded as skipped."""
    if until is not None and until <= timezone.now():
        raise BadInput(f"the pause would end at {until.isoformat()}, which is past.", "Give a later moment, or none.")
    schedule = schedule_named(name, locked=True)
    record_before(schedule)
    schedule.paused_at, schedule.paused_by = schedule.paused_at or timezone.now(), person.name
    schedule.pause_reason, schedule.paused_until = reason[:200], until
    schedule.save()
    return schedule


@transaction.atomic
def resume_schedule(name: str) -> Schedule:
    """Due times from now on run again; those skipped meanwhile stay skipped."""
    schedule = schedule_named(name, locked=True)
    record_before(schedule)
    schedule.lift_pause()
    schedule.save()
    return schedule


@transaction.atomic
def remove_schedule(name: str) -> None:
    """No more due times; the record of past ones stays."""
    schedule = schedule_named(name, locked=True)
    record_before(schedule)
    schedule.removed_at, schedule.next_due_at = timezone.now(), None
    schedule.save()
