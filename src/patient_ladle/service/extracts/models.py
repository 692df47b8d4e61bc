"""An extract is a name in a folder; all else of it lies in revisions, which are never changed."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from django.conf import settings
from django.db import models
from django.utils.functional import cached_property

from patient_ladle.core.files.naming import DEFAULT_TEMPLATE
from patient_ladle.core.values.parameters import Parameter
from patient_ladle.service.common import lookups  # noqa: F401  # registers them
from patient_ladle.service.common.fields import SecretField
from patient_ladle.service.sources.models import Source
from patient_ladle.service.sources.reading import engine_of, source_name

from .sensitive_values import opened_declaration


class Extract(models.Model):
    """A named query of the repository. ``number`` is that of its newest revision.

    One that is not ``in_repository`` was run without being saved; a name or a folder brings it in.
    """

    name = models.CharField(max_length=64, unique=True)
    folder = models.CharField(max_length=200, blank=True, default="")
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    number = models.PositiveIntegerField(default=0)
    tags = models.JSONField(default=list)
    depends_on = models.ManyToManyField("self", symmetrical=False, related_name="before")
    retention_days = models.PositiveIntegerField(null=True)
    retention_runs = models.PositiveIntegerField(null=True)
    in_repository = models.BooleanField(default=True)
    archived_at = models.DateTimeField(null=True)
    created_at = models.DateTimeField(auto_now_add=True)
    known_head: Revision | None = None
    """The newest revision, where ``with_heads`` has brought it along."""

    class Meta:
        ordering: ClassVar = ["folder", "name"]

    def __str__(self) -> str:
        return self.name

    @property
    def head(self) -> Revision:
        """The newest revision; lists bring it along with ``with_heads``."""
        found = self.known_head
        if found is None or found.number != self.number:
            found = Revision.objects.select_related("source", "author").get(extract=self, number=self.number)
        return found


class FormerName(models.Model):
    """A name that an extract had before: it keeps answering, with a pointer to the present one."""

    name = models.CharField(max_length=64, unique=True)
    extract = models.ForeignKey(Extract, on_delete=models.CASCADE, related_name="former_names")
    left_at = models.DateTimeField(auto_now_add=True)


def with_heads(extracts: models.QuerySet[Extract], along: Sequence[str] = ("source", "author")) -> list[Extract]:
    """The extracts with their newest revisions, in a few queries however many there are. Many share few sources and authors:
    each of these is one object."""
    found = list(extracts)
    newest = Revision.objects.filter(extract__any=[each.pk for each in found], number=models.F("extract__number"))
    newest = newest.prefetch_related(*along)
    heads = {revision.extract_id: revision for revision in newest}
    for extract in found:
        extract.known_head = heads[extract.pk]
    return found


class Revision(models.Model):
    """One saved state of an extract."""

    extract = models.ForeignKey(Extract, on_delete=models.PROTECT, related_name="revisions")
    number = models.PositiveIntegerField()
    author = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    saved_at = models.DateTimeField(auto_now_add=True)
    change_note = models.TextField(blank=True, default="")
    source = models.ForeignKey(Source, on_delete=models.PROTECT, null=True, related_name="+")
    """None: it reads nothing but its values. Ask ``sources.reading`` what that means."""
    statement = models.TextField()
    outline = models.JSONField(null=True)
    """What the statement was put together from; None where it was written by hand."""
    inputs = models.JSONField(default=list)
    """What a combination combines (core.inputs.declared); such an extract has no source."""
    steps = models.JSONField(default=list)
    """What is done to its result after the fetch (core.steps.declared)."""
    parameters = models.JSONField(default=list)
    formats = models.JSONField(default=list)
    file_name = models.CharField(max_length=200, default=DEFAULT_TEMPLATE)
    output = models.JSONField(default=dict)
    guards = models.JSONField(default=list)
    deliver_into = models.CharField(max_length=500, blank=True, default="")
    notes = models.TextField(blank=True, default="")

    class Meta:
        ordering: ClassVar = ["-number"]
        constraints: ClassVar = [models.UniqueConstraint(fields=["extract", "number"], name="one_revision")]

    @property
    def source_name(self) -> str:
        """Empty where it reads none."""
        return source_name(self.source)

    @property
    def engine(self) -> str:
        """The engine whose language the statement is in."""
        return engine_of(self.source)

    @cached_property
    def declared(self) -> Sequence[Parameter]:
        """Its parameters, which never change."""
        return [Parameter.from_dict(opened_declaration(item)) for item in self.parameters]


class SharedValue(models.Model):
    """A value kept once, by environment, that parameters of many extracts take as their default."""

    name = models.CharField(max_length=64, unique=True)
    note = models.TextField(blank=True, default="")
    values = models.JSONField(default=dict)
    changed_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    changed_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering: ClassVar = ["name"]


class Mark(models.Model):
    """What an extract is to one person: when they had it in hand last, and whether it is one of their favourites."""

    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    extract = models.ForeignKey(Extract, on_delete=models.CASCADE, related_name="marks")
    favourite = models.BooleanField(default=False)
    opened_at = models.DateTimeField(null=True)

    class Meta:
        constraints: ClassVar = [models.UniqueConstraint(fields=["person", "extract"], name="one_mark_of_a_person")]


class Draft(models.Model):
    """Unsaved work of one person, on an extract or on a text that is none yet; ``version`` grows with each write."""

    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    extract = models.ForeignKey(Extract, on_delete=models.CASCADE, null=True, related_name="+")
    key = models.CharField(max_length=64, blank=True, default="")
    base = models.PositiveIntegerField(null=True)
    version = models.PositiveIntegerField(default=0)
    content = SecretField(blank=True, default="")
    saved_at = models.DateTimeField(auto_now=True)

    class Meta:
        ordering: ClassVar = ["-saved_at", "-id"]
        constraints: ClassVar = [
            models.UniqueConstraint(fields=["person", "extract", "key"], name="one_draft_of_a_person", nulls_distinct=False)
        ]

    @property
    def extract_name(self) -> str:
        """Empty where it is of none yet."""
        return self.extract.name if self.extract else ""
