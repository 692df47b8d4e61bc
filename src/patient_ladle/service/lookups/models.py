"""A lookup is a name; its columns, key and rows lie in revisions, which are never changed."""

from __future__ import annotations

import json
import zlib
from typing import ClassVar

from django.conf import settings
from django.db import models

from patient_ladle.core.results.columns import Column
from patient_ladle.core.steps.lookups import Lookup as Table


class Lookup(models.Model):
    """``number`` is that of its newest revision."""

    name = models.CharField(max_length=64, unique=True)
    note = models.TextField(blank=True, default="")
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    number = models.PositiveIntegerField(default=0)
    archived_at = models.DateTimeField(null=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering: ClassVar = ["name"]

    @property
    def head(self) -> LookupRevision:
        """The newest revision; its rows, which are many, only come where they are asked for."""
        found: LookupRevision = self.revisions.select_related("author").defer("content").get(number=self.number)
        return found


class LookupRevision(models.Model):
    """One saved state. ``content``: the rows as JSON, deflated (RFC 1950)."""

    lookup = models.ForeignKey(Lookup, on_delete=models.PROTECT, related_name="revisions")
    number = models.PositiveIntegerField()
    author = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="+")
    saved_at = models.DateTimeField(auto_now_add=True)
    change_note = models.TextField(blank=True, default="")
    columns = models.JSONField()
    key = models.JSONField()
    rows = models.PositiveIntegerField()
    content = models.BinaryField()

    class Meta:
        ordering: ClassVar = ["-number"]
        constraints: ClassVar = [models.UniqueConstraint(fields=["lookup", "number"], name="one_revision_of_a_lookup")]

    def table(self) -> Table:
        """With its rows."""
        columns = tuple(Column(each["name"], each["kind"]) for each in self.columns)
        rows = json.loads(zlib.decompress(bytes(self.content)))
        return Table(self.lookup.name, self.number, columns, tuple(self.key), rows)


def packed(table: Table) -> dict[str, object]:
    """The fields of a revision that hold a table."""
    return {
        "columns": [{"name": column.name, "kind": column.kind} for column in table.columns],
        "key": list(table.key),
        "rows": len(table.rows),
        "content": zlib.compress(json.dumps([list(row) for row in table.rows], ensure_ascii=False).encode(), 6),
    }
