"""Would two extracts, or two schedules, deliver under one name: seen when one is saved, before the later one meets the earlier
one's file."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any

from django.db.models import F
from django.utils import timezone

from patient_ladle.core.errors import BadInput, Conflict, LadleError
from patient_ladle.core.files.naming import holds, stem
from patient_ladle.core.files.output import OutputSettings
from patient_ladle.core.runs.engine import name_fields
from patient_ladle.core.values.calendars.clock import check_zone
from patient_ladle.service.common.targets import targets_of
from patient_ladle.service.lookups.services import resolved

from .models import Extract, Revision, with_heads
from .sensitive_values import opened
from .shared_values import shared_in

_A_DAY = date(2026, 11, 24)


def _allowed(wanted: str) -> frozenset[str]:
    """Targets, less those that are no longer allowed."""
    try:
        return frozenset(targets_of(wanted))
    except LadleError:
        return frozenset()


def _name(template: str, extract: str, folder: str, values: Sequence[str]) -> str:
    """The name on a day, whatever its parameters are, without regard to case, as some file systems have it."""
    known: dict[str, Any] = {"extract": extract, "folder": folder, "data_date": _A_DAY, "environment": "x", "run": "x"}
    return stem(template, {**known, **{f"value.{name}": "x" for name in values}}).casefold()


def refuse_names_of_others(extract: Extract, content: dict[str, Any]) -> None:
    """``content``: the revision about to be saved. Raises Conflict, naming the other extract."""
    targets, template = _allowed(content["deliver_into"]), content["file_name"]
    if not targets or holds(template, "run"):
        return
    ours = _name(template, extract.name, extract.folder, [p["name"] for p in content["parameters"]])
    heads = Revision.objects.filter(number=F("extract__number"), extract__archived_at=None).exclude(deliver_into="")
    for head in heads.exclude(extract=extract.pk).select_related("extract").only(
        "file_name", "deliver_into", "parameters", "extract__name", "extract__folder"
    ):  # fmt: skip
        shared = targets & _allowed(head.deliver_into)
        if not shared or holds(head.file_name, "run"):
            continue
        other = head.extract
        if _name(head.file_name, other.name, other.folder, [p["name"] for p in head.parameters]) == ours:
            raise Conflict(
                f"'{other.name}' delivers into '{min(shared)}' under the same name: {head.file_name}.",
                "Put {extract} into the file name, or deliver into another folder.",
            )


@dataclass(frozen=True, slots=True)
class Sent:
    """What one schedule delivers of one extract: ``schedule`` says when, ``head`` what and under which names."""

    schedule: Any
    head: Revision
    values: Mapping[str, Any]
    formats: Sequence[str]

    @property
    def targets(self) -> frozenset[str]:
        """None: nothing is delivered."""
        return _allowed(self.schedule.deliver_into or self.head.deliver_into)

    @property
    def is_numbered(self) -> bool:
        """Its files never take the place of others."""
        return OutputSettings.from_dict(self.head.output).files.get("if_exists") == "rename"

    def names(self) -> dict[str, str]:
        """Those of the days to come, without an extension, as some file systems compare them, and as they are written."""
        zone, template, made = check_zone(self.schedule.zone), self.head.file_name, dict[str, str]()
        if holds(template, "run"):
            return {}
        extract, environment, declared = self.head.extract, self.schedule.environment, self.head.declared
        about = {"extract": extract.name, "folder": extract.folder, "environment": environment.name}
        shared = shared_in(environment, declared)
        at = timezone.now()
        until = at + DAYS_AHEAD
        while (found := self.schedule.timing().next_due(at)) and found < until:
            day = found.astimezone(zone).date()
            name = stem(template, name_fields(about, resolved(declared, opened(dict(self.values)), day, found, shared)))
            made[name.casefold()] = name
            at = datetime.combine(day + timedelta(days=1), time(), zone) - timedelta(microseconds=1)
        return made

    def may_share_with(self, other: Sent) -> bool:
        """The same result of the same day: whichever comes later gives what the earlier one gave, or newer."""
        ours, theirs = self.schedule, other.schedule
        same = self.head.extract_id == other.head.extract_id and ours.environment_id == theirs.environment_id
        alike = opened(dict(self.values)) == opened(dict(other.values)) and [*self.formats] == [*other.formats]
        return (same and alike) or (self.is_numbered and other.is_numbered)


DAYS_AHEAD = timedelta(days=400)


def sent_by(schedule: Any, head: Revision | None = None) -> list[Sent]:
    """By a schedule, step for step. ``head``: a revision that is about to be the newest of its extract."""
    parts = [(schedule.extract, schedule.values, schedule.formats)]
    parts += [(step.extract, step.values, step.formats) for step in schedule.sequence()]
    made = []
    for extract, values, formats in parts:
        newest = head if head is not None and head.extract_id == extract.pk else extract.head
        made.append(Sent(schedule, newest, values, formats or newest.formats))
    return made


def refuse_meetings(ours: Sequence[Sent], others: Iterable[Sent]) -> None:
    """Raises BadInput where two of them would deliver under one name into one folder, on whatever day to come."""
    theirs = [each for each in others if each.targets]
    for number, one in enumerate(ours):
        known: dict[str, str] | None = None
        for other in [*theirs, *ours[:number]]:
            shared = one.targets & other.targets
            if not shared or one.may_share_with(other):
                continue
            known = one.names() if known is None else known
            met = known.keys() & _names_of(other).keys()
            if met:
                whose = (
                    f"schedule '{other.schedule.name}' delivers '{other.head.file_name}' from {other.schedule.environment.name}"
                )
                raise BadInput(
                    f"{whose} into the same folder: '{known[min(met)]}' in '{min(shared)}' would be of both.",
                    "Put {extract}, {environment} or {value.…} into the file name, or let one of them deliver elsewhere.",
                )


def _names_of(other: Sent) -> dict[str, str]:
    try:
        return other.names()
    except LadleError:
        return {}  # its values or its rule do not hold any more, which its own runs say


NAMING = ("file_name", "deliver_into", "parameters", "formats", "output")
"""What of a revision decides the names of its files."""


def refuse_meetings_of(head: Revision, before: Revision) -> None:
    """The same of a revision that is about to be saved in place of another, over all schedules that run its extract."""
    if all(getattr(head, each) == getattr(before, each) for each in NAMING):
        return
    schedules: Any = Extract._meta.get_field("schedules").related_model
    every = schedules.objects.filter(removed_at=None).select_related("environment", "calendar").prefetch_related("steps")
    found = list(every)
    numbers = {each.extract_id for each in found} | {step.extract_id for each in found for step in each.steps.all()}
    extracts = {extract.pk: extract for extract in with_heads(Extract.objects.filter(pk__in=numbers))}
    ours, theirs = list[Sent](), list[Sent]()
    for schedule in found:
        schedule.extract, schedule.known_steps = extracts[schedule.extract_id], list(schedule.steps.all())
        for step in schedule.known_steps:
            step.extract = extracts[step.extract_id]
        runs_it = head.extract_id in (schedule.extract_id, *(step.extract_id for step in schedule.known_steps))
        (ours if runs_it else theirs).extend(sent_by(schedule, head))
    refuse_meetings(ours, theirs)
