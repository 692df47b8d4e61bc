"""A source is one name; in each environment it has an address of its own."""

from __future__ import annotations

from typing import ClassVar

from django.db import models

from patient_ladle.service.common.fields import SecretField


class Environment(models.Model):
    """``live``, ``rehearsal``, …"""

    name = models.CharField(max_length=64, unique=True)
    note = models.TextField(blank=True, default="")

    class Meta:
        ordering: ClassVar = ["id"]


class Source(models.Model):
    """A named database that extracts read. ``places`` is how many runs may read it at once."""

    name = models.CharField(max_length=64, unique=True)
    engine = models.CharField(max_length=32)
    note = models.TextField(blank=True, default="")
    places = models.PositiveSmallIntegerField(default=2)
    deadline_seconds = models.PositiveIntegerField(default=3600)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering: ClassVar = ["name"]


class Address(models.Model):
    """How one source is reached in one environment, and what its last check found."""

    source = models.ForeignKey(Source, on_delete=models.CASCADE, related_name="addresses")
    environment = models.ForeignKey(Environment, on_delete=models.PROTECT, related_name="addresses")
    fields = models.JSONField(default=dict)
    secret = SecretField(blank=True, default="")
    last_check = models.JSONField(null=True)
    last_check_at = models.DateTimeField(null=True)

    class Meta:
        ordering: ClassVar = ["environment_id"]
        constraints: ClassVar = [models.UniqueConstraint(fields=["source", "environment"], name="one_address")]
