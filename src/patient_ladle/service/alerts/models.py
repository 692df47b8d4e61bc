"""A problem lasts; alerts say when it begins, changes and ends; sendings take them to channels."""

from __future__ import annotations

import uuid
from typing import ClassVar

from django.conf import settings
from django.db import models
from django.db.models import Q

from patient_ladle.service.common.fields import SecretField


def _new_id() -> str:
    return uuid.uuid4().hex


class OpenProblem(models.Model):
    """Something that is wrong, from its first sign to its end; ``mark`` is its cause, told again only when it changes."""

    key = models.CharField(max_length=200)
    title = models.CharField(max_length=200)
    mark = models.CharField(max_length=200)
    count = models.PositiveIntegerField(default=1)
    began_at = models.DateTimeField(auto_now_add=True)
    seen_at = models.DateTimeField(auto_now=True)
    ended_at = models.DateTimeField(null=True)

    class Meta:
        ordering: ClassVar = ["-id"]
        constraints: ClassVar = [models.UniqueConstraint(fields=["key"], condition=Q(ended_at=None), name="one_open_trouble")]


class Alert(models.Model):
    """What people are told, once; ``person`` where it is for one of them alone."""

    id = models.CharField(primary_key=True, max_length=32, default=_new_id)
    problem = models.ForeignKey(OpenProblem, on_delete=models.CASCADE, null=True, related_name="alerts")
    kind = models.CharField(max_length=20)
    title = models.CharField(max_length=200)
    cause = models.TextField()
    next_step = models.TextField(blank=True, default="")
    path = models.CharField(max_length=200, blank=True, default="")
    at = models.DateTimeField(auto_now_add=True, db_index=True)
    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, null=True, related_name="+")

    class Meta:
        ordering: ClassVar = ["-at", "-id"]


class Seen(models.Model):
    """Up to when a person has seen the alerts."""

    person = models.OneToOneField(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    until = models.DateTimeField()


class Channel(models.Model):
    """Where alerts are sent; ``kinds`` empty means all of them. ``for_people``: it takes alerts for single people, too, each
    to their own address."""

    name = models.CharField(max_length=64, unique=True)
    kind = models.CharField(max_length=16)
    settings = models.JSONField(default=dict)
    secret = SecretField(blank=True, default="")
    kinds = models.JSONField(default=list)
    active = models.BooleanField(default=True)
    for_people = models.BooleanField(default=False)

    class Meta:
        ordering: ClassVar = ["name"]


WAITING, SENT, FAILED = "waiting", "sent", "failed"


class Sending(models.Model):
    """One alert on its way to one channel; ``to``: another address than the channel's own."""

    alert = models.ForeignKey(Alert, on_delete=models.CASCADE, related_name="sendings")
    channel = models.ForeignKey(Channel, on_delete=models.CASCADE, related_name="sendings")
    state = models.CharField(max_length=16, default=WAITING)
    attempts = models.PositiveSmallIntegerField(default=0)
    next_at = models.DateTimeField()
    response = models.TextField(blank=True, default="")
    to = models.CharField(max_length=200, blank=True, default="")
    sent_at = models.DateTimeField(null=True)

    class Meta:
        ordering: ClassVar = ["-id"]
        indexes: ClassVar = [models.Index(fields=["next_at"], name="sendings_to_do", condition=Q(state=WAITING))]
        constraints: ClassVar = [models.UniqueConstraint(fields=["alert", "channel"], name="one_sending_a_channel")]


class Summary(models.Model):
    """That a morning was summed up; one record a date."""

    date = models.DateField(unique=True)
    alert = models.ForeignKey(Alert, on_delete=models.CASCADE, related_name="+")
