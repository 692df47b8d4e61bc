"""A source is one name; in each environment it has an address of its own."""

from __future__ import annotations

from typing import ClassVar

from django.conf import settings
from django.db import models

from patient_ladle.service.common.fields import SecretField


class Environment(models.Model):
    """What addresses, shared values and schedules are meant for: ``live``, ``rehearsal``, and the like."""

    name = models.CharField(max_length=64, unique=True)
    note = models.TextField(blank=True, default="")

    class Meta:
        ordering: ClassVar = ["id"]


class Source(models.Model):
    """A named database that extracts read. ``max_runs`` is how many runs may read it at once; ``saved_only``: it is
    asked for nothing but what stands in the repository."""

    name = models.CharField(max_length=64, unique=True)
    engine = models.CharField(max_length=32)
    note = models.TextField(blank=True, default="")
    group = models.CharField(max_length=64, blank=True, default="")
    max_runs = models.PositiveSmallIntegerField(default=2)
    connect_timeout_seconds = models.PositiveSmallIntegerField(default=10)
    max_rows = models.BigIntegerField(null=True)
    max_bytes = models.BigIntegerField(null=True)
    query_timeout_seconds = models.PositiveIntegerField(default=3600)
    quiet_hours = models.CharField(max_length=200, blank=True, default="")
    quiet_zone = models.CharField(max_length=64, blank=True, default="")
    saved_only = models.BooleanField(default=False)
    permitted = models.JSONField(default=list)
    """Names that its statements may call or read beyond what every source allows: ``{"name", "by", "at"}`` each."""
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering: ClassVar = ["name"]


class AddressManager(models.Manager["Address"]):
    """Leaves the catalogue, which may have megabytes, where it is until somebody looks at it."""

    def get_queryset(self) -> models.QuerySet[Address]:
        return super().get_queryset().defer("catalogue")


class Address(models.Model):
    """How one source is reached in one environment, and what its last check found."""

    source = models.ForeignKey(Source, on_delete=models.CASCADE, related_name="addresses")
    environment = models.ForeignKey(Environment, on_delete=models.PROTECT, related_name="addresses")
    fields = models.JSONField(default=dict)
    secret = SecretField(blank=True, default="")
    last_check = models.JSONField(null=True)
    last_check_at = models.DateTimeField(null=True)
    catalogue = models.JSONField(null=True)
    catalogue_at = models.DateTimeField(null=True)

    objects = AddressManager()

    class Meta:
        ordering: ClassVar = ["environment_id"]
        constraints: ClassVar = [models.UniqueConstraint(fields=["source", "environment"], name="one_address")]


WAITING, RUNNING, FINISHED, FAILED, CANCELLED = "waiting", "running", "finished", "failed", "cancelled"
QUERY_STATES = (WAITING, RUNNING, FINISHED, FAILED, CANCELLED)


class InteractiveQuery(models.Model):
    """Interactive work on a source: its request, how far it is, and for a while what it found.

    ``deadline_at`` ends it whatever happened to the process that minds it: from then on it takes no place of the source.
    """

    id = models.CharField(primary_key=True, max_length=32)
    source = models.ForeignKey(Source, on_delete=models.CASCADE, null=True, related_name="queries")
    address = models.ForeignKey(Address, on_delete=models.CASCADE, null=True, related_name="+")
    """None, both: it is of a statement without a source."""
    reads = models.ManyToManyField(Source, related_name="queries_of_inputs")
    """What the inputs of a combination read."""
    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    kind = models.CharField(max_length=16)
    request = models.JSONField(default=dict)
    state = models.CharField(max_length=16, default=WAITING)
    cancel_asked = models.BooleanField(default=False)
    result = models.JSONField(null=True)
    error = models.JSONField(null=True)
    asked_at = models.DateTimeField(auto_now_add=True, db_index=True)
    started_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    deadline_at = models.DateTimeField()
