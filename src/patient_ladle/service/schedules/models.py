"""A schedule says when; a due time is the record of one such moment, made exactly once."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import ClassVar

from django.conf import settings
from django.db import models
from django.utils import timezone

from patient_ladle.core.runs.due_decisions import DUE_TIME, CatchUp, Pause
from patient_ladle.core.values.calendars.holidays import NO_HOLIDAYS, of_country, of_file
from patient_ladle.core.values.calendars.timing import Timing
from patient_ladle.service.common.state_rules import rules_of
from patient_ladle.service.extracts.models import Extract
from patient_ladle.service.sources.models import Environment

WHILE_RUNNING = ("wait", "skip", "parallel")
"""What a due time does while an earlier run of its schedule has not ended."""
PRIORITIES = {"low": -1, "normal": 0, "high": 1}


class HolidayCalendar(models.Model):
    """Days on which nobody works, under a name: a country's, or those of an iCalendar file."""

    name = models.CharField(max_length=64, unique=True)
    country = models.CharField(max_length=2, blank=True, default="")
    region = models.CharField(max_length=16, blank=True, default="")
    text = models.TextField(blank=True, default="")
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")

    class Meta:
        ordering: ClassVar = ["name"]

    def days(self) -> Mapping[date, str]:
        """Date to name, for some years about the present one."""
        year = timezone.now().year
        return of_country(self.country, self.region, year) if self.country else of_file(self.text, year)


class Schedule(models.Model):
    """When an extract, or several in order, run by themselves.

    ``next_due_at`` moves on in the transaction that records a due time. ``extract`` is the first of the sequence;
    those after it are steps. ``fault``: why its due times could not be recorded, since ``fault_at``; it is set aside until
    ``look_again_at``, and the others go on.
    """

    name = models.CharField(max_length=64, unique=True)
    extract = models.ForeignKey(Extract, on_delete=models.PROTECT, related_name="schedules")
    environment = models.ForeignKey(Environment, on_delete=models.PROTECT, related_name="+")
    rule = models.CharField(max_length=200)
    zone = models.CharField(max_length=64)
    first_date = models.DateField(null=True)
    last_date = models.DateField(null=True)
    exceptions = models.JSONField(default=list)
    calendar = models.ForeignKey(HolidayCalendar, on_delete=models.PROTECT, null=True, related_name="schedules")
    on_holiday = models.CharField(max_length=20, default="run")
    catch_up = models.CharField(max_length=8, default="latest")
    catch_up_hours = models.PositiveIntegerField(null=True)
    catch_up_limit = models.PositiveIntegerField(null=True)
    while_running = models.CharField(max_length=12, default="wait")
    spread_seconds = models.PositiveIntegerField(default=0)
    attempts = models.PositiveSmallIntegerField(default=3)
    timeout_minutes = models.PositiveIntegerField(default=1440)
    finish_by = models.TimeField(null=True)
    priority = models.CharField(max_length=8, default="normal")
    values = models.JSONField(default=dict)
    formats = models.JSONField(default=list)
    deliver_into = models.CharField(max_length=500, blank=True, default="")
    next_due_at = models.DateTimeField(null=True, db_index=True)
    fault = models.CharField(max_length=400, blank=True, default="")
    fault_at = models.DateTimeField(null=True)
    look_again_at = models.DateTimeField(null=True)
    paused_at = models.DateTimeField(null=True)
    paused_until = models.DateTimeField(null=True)
    paused_by = models.CharField(max_length=64, blank=True, default="")
    pause_reason = models.CharField(max_length=200, blank=True, default="")
    removed_at = models.DateTimeField(null=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    known_steps: list[SequenceStep] | None = None
    """The steps after the first, where they were brought along."""

    class Meta:
        ordering: ClassVar = ["name"]

    def sequence(self) -> list[SequenceStep]:
        """Its steps after the first, with their extracts; those of many schedules are brought along together."""
        return list(self.steps.select_related("extract")) if self.known_steps is None else self.known_steps

    def extracts(self) -> list[Extract]:
        """What it runs, in the order of its sequence."""
        return [self.extract, *(step.extract for step in self.sequence())]

    def timing(self) -> Timing:
        """Its moments."""
        return Timing(
            self.rule,
            self.zone,
            self.first_date,
            self.last_date,
            frozenset(date.fromisoformat(text) for text in self.exceptions),
            self.on_holiday,
            self.calendar.days() if self.calendar else NO_HOLIDAYS,
        )

    def catching_up(self) -> CatchUp:
        """What it does about due times that it missed."""
        return CatchUp(self.catch_up, self.catch_up_hours, self.catch_up_limit)

    def lift_pause(self) -> None:
        """Due times run again; not saved yet."""
        self.paused_at, self.paused_until, self.paused_by, self.pause_reason = None, None, "", ""

    def pause(self) -> Pause | None:
        """Whether, why and how long nothing runs."""
        if not self.paused_at:
            return None
        why = f": {self.pause_reason}" if self.pause_reason else ""
        return Pause(f"paused by {self.paused_by}{why}", self.paused_until)


class SequenceStep(models.Model):
    """An extract that runs after the ones before it have finished; the schedule's own extract is place 1."""

    schedule = models.ForeignKey(Schedule, on_delete=models.CASCADE, related_name="steps")
    place = models.PositiveSmallIntegerField()
    extract = models.ForeignKey(Extract, on_delete=models.PROTECT, related_name="steps")
    values = models.JSONField(default=dict)
    formats = models.JSONField(default=list)

    class Meta:
        ordering: ClassVar = ["place"]
        constraints: ClassVar = [models.UniqueConstraint(fields=["schedule", "place"], name="one_step_of_a_place")]


class DueTime(models.Model):
    """One moment at which a schedule wanted a run, with what became of it and why.

    ``untold``: it was missed, and no alert has said so yet.
    """

    schedule = models.ForeignKey(Schedule, on_delete=models.PROTECT, related_name="due_times")
    due_at = models.DateTimeField()
    data_date = models.DateField()
    decision = models.CharField(max_length=16)
    reason = models.CharField(max_length=400)
    untold = models.BooleanField(default=False)
    decided_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering: ClassVar = ["-due_at"]
        indexes: ClassVar = [
            models.Index(fields=["decided_at"], name="due_times_without_run", condition=~models.Q(decision="run")),
            models.Index(fields=["id"], name="due_times_untold", condition=models.Q(untold=True)),
        ]
        constraints: ClassVar = [
            models.UniqueConstraint(fields=["schedule", "due_at"], name="one_record_per_due_time"),
            rules_of(DUE_TIME, "decision_of_a_due_time"),
        ]
