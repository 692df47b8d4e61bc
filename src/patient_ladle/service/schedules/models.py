"""A schedule says when; a due time is the record of one such moment, made exactly once."""

from __future__ import annotations

from typing import ClassVar

from django.conf import settings
from django.db import models

from patient_ladle.service.extracts.models import Extract
from patient_ladle.service.sources.models import Environment


class Schedule(models.Model):
    """When an extract runs by itself. ``next_due_at`` moves on in the transaction that records a due time."""

    name = models.CharField(max_length=64, unique=True)
    extract = models.ForeignKey(Extract, on_delete=models.PROTECT, related_name="schedules")
    environment = models.ForeignKey(Environment, on_delete=models.PROTECT, related_name="+")
    rule = models.CharField(max_length=200)
    zone = models.CharField(max_length=64)
    values = models.JSONField(default=dict)
    formats = models.JSONField(default=list)
    next_due_at = models.DateTimeField(null=True, db_index=True)
    paused_at = models.DateTimeField(null=True)
    paused_by = models.CharField(max_length=64, blank=True, default="")
    pause_reason = models.CharField(max_length=200, blank=True, default="")
    removed_at = models.DateTimeField(null=True)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")

    class Meta:
        ordering: ClassVar = ["name"]


class DueTime(models.Model):
    """One moment at which a schedule wanted a run, with what became of it and why."""

    schedule = models.ForeignKey(Schedule, on_delete=models.PROTECT, related_name="due_times")
    due_at = models.DateTimeField()
    data_date = models.DateField()
    decision = models.CharField(max_length=16)
    reason = models.CharField(max_length=400)
    decided_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering: ClassVar = ["-due_at"]
        constraints: ClassVar = [models.UniqueConstraint(fields=["schedule", "due_at"], name="one_record_per_due_time")]
