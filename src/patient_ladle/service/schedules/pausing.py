"""Several schedules paused or resumed at once. What they were before comes back, and can be put back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from django.db import transaction
from django.utils import timezone

from patient_ladle.service.common.together import names_of
from patient_ladle.service.people.models import Person

from .models import Schedule
from .services import pause_schedule, resume_schedule, schedule_named


@transaction.atomic
def pause_schedules(person: Person, wanted: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """Each ``name`` with ``paused``, and where it is to be with ``reason`` and ``until``. All of them, or none.

    What they were before, in the same form: handed in again, it undoes this; a pause that would be over by then is none.
    Raises BadInput, UnknownName.
    """
    names = names_of("schedule", wanted, lambda name: schedule_named(name).name)
    # In the order of their keys: of two such calls at once, one waits for the other.
    list(Schedule.objects.select_for_update(of=("self",)).filter(name__in=names).order_by("pk"))
    return [_set(person, each) for each in wanted]


def _set(person: Person, wanted: Mapping[str, Any]) -> dict[str, Any]:
    schedule = schedule_named(wanted["name"])
    ends = schedule.paused_until
    goes_on = schedule.paused_at is not None and (ends is None or ends > timezone.now())
    reason, until = (schedule.pause_reason, ends) if goes_on else ("", None)
    was = {"name": schedule.name, "paused": goes_on, "reason": reason, "until": until}
    if wanted["paused"]:
        pause_schedule(person, schedule.name, wanted.get("reason", ""), wanted.get("until"))
    else:
        resume_schedule(schedule.name)
    return was
