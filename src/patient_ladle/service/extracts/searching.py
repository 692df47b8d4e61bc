"""Extracts by what somebody searches for, and what they are to a person."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any, NamedTuple

from django.db.models import Exists, F, FilteredRelation, OuterRef, Q, QuerySet
from django.db.models.functions import Now

from patient_ladle.core.values.search import Search
from patient_ladle.service.people.models import Person

from .models import Extract, Mark, Revision


def searched(found: QuerySet[Extract], search: Search, in_statements: bool = True) -> QuerySet[Extract]:
    """Those that meet all of it: words in name, folder, tags, notes or statement, terms in the field they name. Terms of a
    ``state`` are left to whoever knows runs; ``in_statements``: the caller may see them."""
    head = Revision.objects.filter(extract=OuterRef("pk"), number=OuterRef("number"))
    for word in search.words:
        said = Q(notes__icontains=word)
        if in_statements:
            said |= Q(statement__icontains=word)
        found = found.filter(
            Q(name__icontains=word) | Q(folder__icontains=word) | Q(tags__icontains=word) | Exists(head.filter(said))
        )
    for tag in search.terms.get("tag", ()):
        found = found.filter(tags__contains=[tag])
    for owner in search.terms.get("owner", ()):
        found = found.filter(owner__name__iexact=owner)
    for source in search.terms.get("source", ()):
        found = found.filter(Exists(head.filter(source__name__iexact=source)))
    for folder in search.terms.get("folder", ()):
        found = found.filter(below(folder))
    return found


class Listed(NamedTuple):
    """What a list says of an extract itself; ``source`` is empty where it reads none."""

    pk: int
    name: str
    folder: str
    owner: str
    number: int
    archived_at: datetime | None
    tags: list[str]
    source: str
    notes: str
    saved_at: datetime


def listed(found: QuerySet[Extract]) -> list[Listed]:
    """In the same order, by one query and without an object of each: thousands are one list."""
    newest = FilteredRelation("revisions", condition=Q(revisions__number=F("number")))
    fields = ("pk", "name", "folder", "owner__name", "number", "archived_at", "tags",
              "newest__source__name", "newest__notes", "newest__saved_at")  # fmt: skip
    rows = found.annotate(newest=newest).values_list(*fields)
    return [Listed._make((*row[:7], row[7] or "", *row[8:])) for row in rows]


def below(folder: str) -> Q:
    """In this folder or in one below it."""
    return Q(folder=folder) | Q(folder__startswith=folder.rstrip("/") + "/")


def marks_of(person: Person, extracts: Iterable[Listed]) -> dict[int, Mark]:
    """By the extract's key; none where the person never had it in hand."""
    found = Mark.objects.filter(person=person, extract__any=[each.pk for each in extracts])
    return {mark.extract_id: mark for mark in found}


def mark_opened(person: Person, extract: Extract) -> None:
    """The person has it in hand now."""
    _mark(person, extract, opened_at=Now())


def set_favourite(person: Person, extract: Extract, favourite: bool) -> None:
    """One of the person's favourites from now on, or none any more."""
    _mark(person, extract, favourite=favourite)


def _mark(person: Person, extract: Extract, **given: Any) -> None:
    """In one statement: two windows may do so at once."""
    made = Mark(person=person, extract=extract, **given)
    fields = ["person", "extract"]
    Mark.objects.bulk_create([made], update_conflicts=True, unique_fields=fields, update_fields=list(given))
