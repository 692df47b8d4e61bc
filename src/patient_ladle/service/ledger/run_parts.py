"""The parts of a run: what was asked for, what happens, how it ended, what became of its result.

They are one row of one table: a claim is one write, and what a state goes with is a constraint of the database, which sees
one row only. Each field belongs to one part, and each part says who writes it.
"""

from __future__ import annotations

from typing import Any, ClassVar

from django.conf import settings
from django.db import models
from django.utils import timezone

from patient_ladle.service.extracts.models import Extract, Revision
from patient_ladle.service.schedules.models import DueTime
from patient_ladle.service.sources.models import Environment, Source

from .states import QUEUED

MAX_ATTEMPTS = 3
"""Attempts of one run, unless its schedule says another number."""


class RunRequest(models.Model):
    """What was asked for: written when a run is made, and never after it (``tests/service/test_states.py`` looks)."""

    extract = models.ForeignKey(Extract, on_delete=models.PROTECT, related_name="runs")
    revision = models.ForeignKey(Revision, on_delete=models.PROTECT, related_name="+")
    source = models.ForeignKey(Source, on_delete=models.PROTECT, null=True, related_name="runs")
    """None: it reads nothing but its values. Ask ``sources.reading`` what that means."""
    environment = models.ForeignKey(Environment, on_delete=models.PROTECT, related_name="+")
    due_time = models.ForeignKey(DueTime, on_delete=models.PROTECT, null=True, related_name="runs")
    step = models.PositiveSmallIntegerField(default=1)
    turn = models.PositiveSmallIntegerField(default=0)
    again_of = models.ForeignKey("runs.Run", on_delete=models.PROTECT, null=True, related_name="+")
    started_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, null=True, related_name="+")
    data_date = models.DateField()
    due_at = models.DateTimeField()
    values = models.JSONField(default=dict)
    formats = models.JSONField(default=list)
    output = models.JSONField(null=True)
    """Output settings of this run alone; None: its revision's."""
    priority = models.SmallIntegerField(default=0)
    max_attempts = models.PositiveSmallIntegerField(default=MAX_ATTEMPTS)
    give_up_at = models.DateTimeField(null=True)
    finish_by = models.DateTimeField(null=True)
    backfill = models.BooleanField(default=False)
    member_of = models.ForeignKey("runs.Run", on_delete=models.PROTECT, null=True, related_name="members", db_index=False)
    """The run of a combination that it is an input of; it tells nobody, and is not delivered."""
    drawn = models.JSONField(default=dict)
    """Parameters that take the values of a column of another input, by their names: that input, its column, its run."""
    of_backfill = models.ForeignKey("runs.Backfill", on_delete=models.PROTECT, null=True, related_name="runs")
    queued_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        abstract: ClassVar = True


class RunProgress(models.Model):
    """What happens to it: its state, what it waits for, and the attempt under way.

    ``attempt`` grows each time a worker takes the run, and is what writes to it are fenced by. ``failures`` of them ended by
    a fault, which is what ``max_attempts`` limits; ``lost`` ended with their workers.
    """

    state = models.CharField(max_length=16, default=QUEUED)
    not_before = models.DateTimeField(null=True)
    wait_until = models.DateTimeField(null=True)
    waits_for = models.CharField(max_length=400, blank=True, default="")
    queue_order = models.DateTimeField(default=timezone.now)
    late = models.BooleanField(default=False)
    warned = models.BooleanField(default=False)
    stage = models.CharField(max_length=16, blank=True, default="")
    stages = models.JSONField(default=list)
    identity = models.JSONField(default=dict)
    attempt = models.PositiveSmallIntegerField(default=0)
    failures = models.PositiveSmallIntegerField(default=0)
    lost = models.PositiveSmallIntegerField(default=0)
    worker = models.ForeignKey("runs.Worker", on_delete=models.SET_NULL, null=True, related_name="runs")
    cancel_asked_by = models.CharField(max_length=64, blank=True, default="")
    values_in_effect = models.JSONField(default=dict)
    inputs = models.JSONField(default=list)
    """Of a combination, as far as it has come: each input's name and the run whose result it is."""
    publishing = models.JSONField(null=True)
    started_at = models.DateTimeField(null=True)

    class Meta:
        abstract: ClassVar = True


class RunOutcome(models.Model):
    """How it ended: what was read, what was warned of, why it failed, and whether it counts as a result."""

    ended_at = models.DateTimeField(null=True)
    rows = models.BigIntegerField(null=True)
    bytes_read = models.BigIntegerField(null=True)
    columns = models.JSONField(default=list)
    statements = models.JSONField(default=list)
    warnings = models.JSONField(default=list)
    error = models.JSONField(null=True)
    findings = models.JSONField(default=list)
    compared = models.JSONField(null=True)
    empty = models.BooleanField(default=False)
    published = models.BooleanField(default=False)

    class Meta:
        abstract: ClassVar = True


class RunDelivery(models.Model):
    """What becomes of its result: what a guard holds back, where it is to go, and the delivery. ``deliver_into`` and
    ``store_only`` are as asked for until a person decides otherwise."""

    deliver_into = models.CharField(max_length=500, blank=True, default="")
    store_only = models.BooleanField(default=False)
    held = models.CharField(max_length=8, blank=True, default="")
    held_note = models.CharField(max_length=400, blank=True, default="")
    held_by = models.CharField(max_length=64, blank=True, default="")
    delivery = models.CharField(max_length=12, blank=True, default="")
    delivery_plan = models.JSONField(null=True)
    delivery_error = models.JSONField(null=True)
    delivery_attempts = models.PositiveSmallIntegerField(default=0)
    deliver_at = models.DateTimeField(null=True)
    deliver_until = models.DateTimeField(null=True)
    deliverer = models.ForeignKey("runs.Worker", on_delete=models.SET_NULL, null=True, related_name="deliveries")

    @property
    def plan(self) -> dict[str, Any]:
        """What is to be delivered, and where; empty where nothing is."""
        return self.delivery_plan or {}

    class Meta:
        abstract: ClassVar = True
