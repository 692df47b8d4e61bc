"""The ledger is the queue: one table of runs, one table of their states (``states``), no second truth."""

from __future__ import annotations

import os
import socket
from datetime import timedelta
from typing import Any, ClassVar

from django.conf import settings
from django.db import models
from django.db.models import Q
from django.db.models.functions import Coalesce, Now
from django.utils import timezone

from patient_ladle.core.errors import NotFound
from patient_ladle.service.common.state_rules import rules_of
from patient_ladle.service.extracts.models import Extract
from patient_ladle.service.schedules.models import Schedule
from patient_ladle.service.sources.models import Environment
from patient_ladle.service.sources.reading import engine_of, source_name

from .run_parts import RunDelivery, RunOutcome, RunProgress, RunRequest
from .states import (
    DELIVERIES,
    DELIVERY,
    DELIVERY_FAILED,
    FINISHED,
    HELD,
    HOLD,
    LIVE,
    QUEUED,
    REJECTED,
    RELEASED,
    RUN,
    RUNNING,
    TO_DELIVER,
    UNDER_WAY,
    WAITING,
)

NEWEST_FIRST = ("-data_date", "-due_at", "-id")
"""The one order of results: of what is the latest, and of what is kept longest."""
SOURCE_CODES = (
    "source_unreachable",
    "source_sign_in_refused",
    "source_tls_refused",
    "source_database_missing",
    "connection_lost",
)
"""Faults of a source, whatever extract met them."""
STORE_CODES = ("store_unwritable", "store_unreadable", "disk_full")
"""Faults of the result store, whatever is stored there."""
MAX_LOST = 3
"""A statement that takes its worker down so often is not tried again."""


class Worker(models.Model):
    """A process that carries out runs. ``beat`` counts up while it lives; its wall clock is never believed, and ``beat_at``
    is the database's.

    ``clock_seconds``: how far it was from the database's at the start.
    """

    id = models.CharField(primary_key=True, max_length=64)
    host = models.CharField(max_length=255)
    pid = models.IntegerField()
    max_runs = models.PositiveSmallIntegerField()
    beat = models.BigIntegerField(default=0)
    beat_at = models.DateTimeField(null=True)
    version = models.CharField(max_length=32, blank=True, default="")
    store_mark = models.CharField(max_length=32, blank=True, default="")
    clock_seconds = models.FloatField(default=0.0)
    draining = models.BooleanField(default=False)
    started_at = models.DateTimeField(auto_now_add=True)
    gone_at = models.DateTimeField(null=True)


class Refusal(models.Model):
    """What a worker has said of a queued run, or of a delivery: that its host cannot carry it out, and why."""

    run = models.ForeignKey("Run", on_delete=models.CASCADE, related_name="refusals")
    worker = models.CharField(max_length=64)
    host = models.CharField(max_length=255)
    why = models.TextField()
    at = models.DateTimeField()

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["run", "worker"], name="one_refusal_of_a_worker")]


class DeliveryTarget(models.Model):
    """A target that something was delivered to, and what its kind wants to be known of it: of a folder the mount point that it
    lay below, so that a share that is not mounted is missed."""

    target = models.CharField(max_length=1000, unique=True)
    known = models.CharField(max_length=1000)


class TargetToClear(models.Model):
    """A target that was away when what a try of a delivery had left there was to be removed."""

    run = models.ForeignKey("Run", on_delete=models.CASCADE, related_name="+")
    target = models.CharField(max_length=1000)
    since = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["run", "target"], name="one_clearing_of_a_target")]


class AttemptToClear(models.Model):
    """An attempt that is over without a result: what it wrote into the store is removed at once, and once more later, for what
    a child without its worker still wrote, or what whoever removed it did not come to."""

    run = models.ForeignKey("Run", on_delete=models.CASCADE, related_name="+")
    attempt = models.PositiveSmallIntegerField()
    since = models.DateTimeField(auto_now_add=True)


class Identity(models.Model):
    """The one row that says which ledger this is. ``sealed``: its id, encrypted with the keys; ``store_mark``: its store."""

    ledger = models.CharField(max_length=32)
    sealed = models.TextField()
    store_mark = models.CharField(max_length=64, blank=True, default="")


class Pulse(models.Model):
    """A process or thread of the service that there should always be, and when it last did what it is there for, by the
    database's clock."""

    name = models.CharField(primary_key=True, max_length=32)
    at = models.DateTimeField()
    by = models.CharField(max_length=300)

    @classmethod
    def beat(cls, name: str) -> None:
        """Now."""
        given = {"at": Now(), "by": f"{socket.gethostname()} {os.getpid()}"}
        if not cls.objects.filter(pk=name).update(**given):
            cls.objects.update_or_create(pk=name, defaults=given)


NO_MEMBER = Q(member_of=None)
"""Runs that somebody asked for, or that were due: those that are inputs of another are shown with that."""
BY_ROWS = Coalesce(models.F("rows"), models.Value(-1))
BY_LENGTH = Coalesce(
    models.ExpressionWrapper(models.F("ended_at") - models.F("started_at"), models.DurationField()),
    models.Value(timedelta(days=-1)),
)
"""What lists of runs are sorted by, least where it is not known yet; an index has the same words."""


class Run(RunRequest, RunProgress, RunOutcome, RunDelivery):
    """One execution of one revision with given values in one environment."""

    class Meta:
        ordering: ClassVar = ["-id"]
        indexes: ClassVar = [
            models.Index(fields=["queue_order"], name="queued_runs", condition=Q(state=QUEUED)),
            models.Index(fields=["wait_until"], name="waiting_runs", condition=Q(state=WAITING)),
            models.Index(fields=["finish_by"], name="runs_to_finish_by", condition=~Q(finish_by=None) & Q(late=False)),
            models.Index(fields=["worker"], name="running_runs", condition=Q(state=RUNNING)),
            models.Index(fields=["extract", "-id"], name="runs_of_extract"),
            models.Index(
                fields=["extract", "environment", "-data_date", "-due_at", "-id"],
                name="published_runs",
                condition=Q(published=True, state=FINISHED),
            ),
            models.Index(fields=["queued_at"], name="runs_by_moment"),
            models.Index(fields=["data_date", "id"], name="runs_by_data_date"),
            models.Index(BY_ROWS, "id", name="runs_by_rows"),
            models.Index(BY_LENGTH, "id", name="runs_by_length"),
            models.Index(fields=["due_time"], name="unfinished_runs", condition=Q(state__in=LIVE)),
            models.Index(fields=["member_of"], name="members_of_runs", condition=~Q(member_of=None)),
            models.Index(fields=["id"], name="held_runs", condition=Q(held=HELD)),
            models.Index(fields=["deliver_at"], name="runs_to_deliver", condition=Q(delivery=TO_DELIVER)),
            models.Index(fields=["id"], name="deliveries_open", condition=Q(delivery__in=(UNDER_WAY, DELIVERY_FAILED))),
        ]
        constraints: ClassVar = [
            models.UniqueConstraint(fields=["due_time", "step", "turn"], name="one_run_per_step_and_turn"),
            rules_of(RUN, "state_of_a_run"),
            rules_of(DELIVERY, "delivery_of_a_run", {each: Q(state=FINISHED) for each in DELIVERIES}),
            rules_of(HOLD, "hold_of_a_run", {each: Q(state__in=(RUNNING, FINISHED)) for each in (HELD, RELEASED, REJECTED)}),
        ]

    @classmethod
    def numbered(cls, number: int, locked: bool = False) -> Run:
        """The run of this number; ``locked``: until the transaction ends. Raises NotFound."""
        query = cls.objects.select_for_update(of=("self",)) if locked else cls.objects.all()
        found: Run | None = query.filter(pk=number).first()
        if found is None:
            raise NotFound(f"there is no run {number}.", "List them: ladle run list.")
        return found

    @property
    def source_name(self) -> str:
        """Empty where it reads none."""
        return source_name(self.source)

    @property
    def engine(self) -> str:
        """The engine whose language its statement is in."""
        return engine_of(self.source)

    @property
    def output_settings(self) -> dict[str, Any]:
        """Its own, else its revision's, as ``OutputSettings`` reads them."""
        return dict(self.revision.output if self.output is None else self.output)

    @property
    def delivers_into(self) -> str:
        """Folders of the delivery: those of its schedule, else of its extract; none where it is kept in the store only."""
        return "" if self.store_only else str(self.deliver_into or self.revision.deliver_into)


class Backfill(models.Model):
    """Runs for past due times of a schedule that somebody asked for together. ``last`` is among its days."""

    schedule = models.ForeignKey(Schedule, on_delete=models.PROTECT, related_name="+")
    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    first = models.DateField()
    last = models.DateField()
    again = models.BooleanField(default=False)
    deliver = models.BooleanField(default=True)
    started_at = models.DateTimeField(auto_now_add=True)
    cancelled_by = models.CharField(max_length=64, blank=True, default="")
    told = models.BooleanField(default=False)

    class Meta:
        ordering: ClassVar = ["-id"]


class ResultFile(models.Model):
    """A proven file of a run in the result store, and where it was delivered."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="files")
    attempt = models.PositiveSmallIntegerField()
    name = models.CharField(max_length=255)
    format = models.CharField(max_length=32)
    media_type = models.CharField(max_length=100)
    rows = models.BigIntegerField()
    bytes = models.BigIntegerField()
    sha256 = models.CharField(max_length=64)
    statement = models.PositiveSmallIntegerField(default=0)
    part = models.PositiveIntegerField(null=True)
    compression = models.CharField(max_length=16, default="none")
    options = models.JSONField(default=dict)
    contents = models.JSONField(default=list)
    sheets = models.JSONField(default=list)
    content = models.CharField(max_length=64, blank=True, default="")
    removed_at = models.DateTimeField(null=True)
    looked_at = models.DateTimeField(default=timezone.now)
    """When its bytes were last read and reckoned: at first when they were proven."""
    damaged_at = models.DateTimeField(null=True)
    damage = models.CharField(max_length=200, blank=True, default="")
    delivered_path = models.CharField(max_length=1000, blank=True, default="")
    delivered_also = models.JSONField(default=list)

    class Meta:
        ordering: ClassVar = ["id"]
        indexes: ClassVar = [
            models.Index(fields=["run"], name="kept_files", condition=Q(removed_at=None)),
            models.Index(fields=["looked_at"], name="files_to_read_through", condition=Q(removed_at=None)),
            models.Index(fields=["damaged_at"], name="damaged_files", condition=~Q(damaged_at=None) & Q(removed_at=None)),
        ]
        constraints: ClassVar = [models.UniqueConstraint(fields=["run", "name"], name="one_file_of_a_name")]

    @property
    def statement_number(self) -> int:
        """The statement that it holds, from 1, as everybody counts them."""
        return self.statement + 1

    @property
    def numbered_sheets(self) -> list[list[Any]]:
        """Sheets of a workbook as name, number of the statement and rows."""
        return [[name, statement + 1, rows] for name, statement, rows in self.sheets]


class DeliveredName(models.Model):
    """A path at which a file was delivered, and whose it is. ``key``: the path's SHA-256."""

    key = models.CharField(primary_key=True, max_length=64)
    path = models.TextField()
    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="+")
    extract = models.ForeignKey(Extract, on_delete=models.CASCADE, related_name="+")
    environment = models.ForeignKey(Environment, on_delete=models.CASCADE, related_name="+")


class LogLine(models.Model):
    """One line of a run log."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="log")
    attempt = models.PositiveSmallIntegerField()
    at = models.DateTimeField()
    stage = models.CharField(max_length=16)
    level = models.CharField(max_length=8)
    text = models.TextField()

    class Meta:
        ordering: ClassVar = ["id"]


class IdempotentCall(models.Model):
    """An ``Idempotency-Key`` that started a run, kept for a day."""

    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    key = models.CharField(max_length=128)
    body_hash = models.CharField(max_length=64)
    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="+")
    called_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["person", "key"], name="one_call_per_key")]
