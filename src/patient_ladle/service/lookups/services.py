"""Keeping lookups: every save makes a revision; none is ever changed."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import date, datetime
from functools import lru_cache
from typing import Any

from django.db import transaction
from django.utils import timezone

from patient_ladle.core.errors import BadInput, Conflict, EditedMeanwhile, NotFound, unknown_name
from patient_ladle.core.steps import lookup_tables
from patient_ladle.core.steps.lookups import Lookup as Table
from patient_ladle.core.steps.lookups import allowing
from patient_ladle.core.values.parameters import BoundValues, Parameter, plain_value, resolve
from patient_ladle.service.children.judging import judged
from patient_ladle.service.common.names import check_name
from patient_ladle.service.people.models import Person

from .models import Lookup, LookupRevision, packed

NOTHING: Mapping[str, Any] = {}


def lookup_named(name: str) -> Lookup:
    """Raises UnknownName."""
    found: Lookup | None = Lookup.objects.select_related("owner").filter(name=name).first()
    if found is None:
        known = Lookup.objects.filter(archived_at=None).values_list("name", flat=True)
        raise unknown_name("lookup", name, known, "Save one: ladle lookup save.")
    return found


def revision_numbered(lookup: Lookup, number: int | None = None) -> LookupRevision:
    """That revision; the newest where none is named. Raises NotFound."""
    wanted = lookup.number if number is None else number
    found: LookupRevision | None = lookup.revisions.select_related("author", "lookup").filter(number=wanted).first()
    if found is None:
        raise NotFound(f"'{lookup.name}' has no revision {wanted}.", f"Its revisions are 1 to {lookup.number}.")
    return found


def tables_of(names: Iterable[str]) -> list[Table]:
    """The newest revision of each, rows and all. Raises UnknownName, and Conflict for one that is archived."""
    return [revision_numbered(lookup_in_use(name)).table() for name in dict.fromkeys(names)]


def lookup_in_use(name: str) -> Lookup:
    """Raises UnknownName, and Conflict for one that is archived."""
    lookup = lookup_named(name)
    if lookup.archived_at is not None:
        raise Conflict(f"the lookup '{name}' is archived.", f"Restore it first: ladle lookup restore {name}.")
    return lookup


def with_allowed(declared: Sequence[Parameter], given: Mapping[str, Any] = NOTHING) -> list[Parameter]:
    """Parameters, where their values are those of a lookup with what that allows now. Of those that are ``given`` the default
    does not matter, which the lookup may have lost since. Raises UnknownName, Conflict, BadInput."""
    made = []
    for each in declared:
        if each.lookup:
            counted = each if given.get(each.name) is None else replace(each, default=None)
            each = _allowing(lookup_in_use(each.lookup["name"]).head.pk, json.dumps(counted.to_dict()))
        made.append(each)
    return made


@lru_cache(32)
def _allowing(revision: int, declared: str) -> Parameter:
    """For many runs at once: revisions never change, and are large."""
    table = LookupRevision.objects.select_related("lookup").get(pk=revision).table()
    return allowing(Parameter.from_dict(json.loads(declared)), table)


def resolved(
    declared: Sequence[Parameter],
    given: Mapping[str, Any],
    data_date: date,
    due_time: datetime,
    shared: Mapping[str, Any] | None = None,
) -> BoundValues:
    """``resolve`` for values that somebody gives: those that a lookup allows are looked for in it. Raises as that does."""
    used = [each for each in declared if each.lookup and plain_value(each, given, shared or {}) is not None]
    allowed = {each.name: each for each in with_allowed(used, given)}
    return resolve([allowed.get(each.name, each) for each in declared], given, data_date, due_time, shared)


def _table(name: str, given: Mapping[str, Any], before: Table | None) -> Table:
    """From ``text`` or ``columns`` and ``rows``; what is not given stays as it was. Raises BadInput."""
    kinds, key = dict(given.get("kinds") or {}), list(given.get("key") or ())
    if given.get("text") is not None:
        names, rows = judged(lookup_tables.read_text, given["text"])
    elif given.get("rows") is not None:
        names = list(given.get("columns") or ([c.name for c in before.columns] if before else []))
        rows = [list(row) for row in given["rows"]]
        if any(len(row) != len(names) for row in rows):
            raise BadInput(f"a row has not as many values as there are columns ({len(names)}).", "Give each row all of them.")
    elif before is not None:
        names, rows = [column.name for column in before.columns], [list(row) for row in before.rows]
    else:
        raise BadInput("the lookup has no rows.", "Give them as text, or as columns and rows.", field="text")
    if before is not None:
        kept = {column.name: column.kind for column in before.columns if column.name in names}
        kinds = kept | kinds
        key = key or ([*before.key] if set(before.key) <= set(names) else [])
    return judged(lookup_tables.made, name, names, rows, kinds, key)


def _add_revision(lookup: Lookup, author: Person, table: Table, change_note: str) -> None:
    lookup.number += 1
    LookupRevision.objects.create(lookup=lookup, number=lookup.number, author=author, change_note=change_note, **packed(table))
    lookup.save()


@transaction.atomic
def add_lookup(author: Person, name: str, note: str, change_note: str, given: Mapping[str, Any]) -> Lookup:
    """A new one with its first revision. Raises BadInput, Conflict."""
    check_name("lookup", name)
    if Lookup.objects.filter(name=name).exists():
        raise Conflict(f"there is a lookup '{name}' already.", "Choose another name, or save a revision of it.")
    made = Lookup(name=name, note=note, owner=author)
    table = _table(name, given, None)
    made.save()
    _add_revision(made, author, table, change_note or "first save")
    return made


def _locked(name: str, revision: int | None) -> Lookup:
    lookup = Lookup.objects.select_for_update().get(pk=lookup_named(name).pk)
    if revision is not None and lookup.number != revision:
        raise EditedMeanwhile(
            f"'{name}' is at revision {lookup.number}, saved by {lookup.head.author.name}; you began from {revision}.",
            "Look at what changed, bring your change into it, and save again.",
            revision=lookup.number,
        )
    return lookup


def _refuse_lost(name: str, after: Table, used: Used) -> None:
    """Raises Conflict where extracts need by name what the table would have no more."""
    there = [column.name for column in after.columns]
    lost = {column: users for column, users in used(name).items() if column not in there}
    if lost:
        words = "; ".join(f"'{column}' by {', '.join(users)}" for column, users in lost.items())
        raise Conflict(
            f"the lookup '{name}' would lose columns that are used: {words}.",
            "Keep them, or add the new column beside the old one, change these extracts, and take the old one out then.",
        )


Used = Callable[[str], Mapping[str, Sequence[str]]]
"""Of a lookup's name, the columns that are needed by name, and by whom."""


@transaction.atomic
def save_lookup(
    author: Person, name: str, revision: int | None, change_note: str, given: Mapping[str, Any], used: Used
) -> Lookup:
    """A new revision, where anything has changed. ``given``: a whole table, or ``put`` and ``remove`` by key; ``note``."""
    lookup = _locked(name, revision)
    head = revision_numbered(lookup)
    before = head.table()
    if given.get("note") is not None:
        lookup.note = given["note"]
        lookup.save()
    if given.get("put") or given.get("remove"):
        if given.get("text") is not None or given.get("rows") is not None:
            raise BadInput("a whole table and single rows were given at once.", "Give one of them.")
        after = judged(lookup_tables.edited, before, list(given.get("put") or ()), list(given.get("remove") or ()))
    else:
        after = _table(name, given, before)
    _refuse_lost(name, after, used)
    fields = packed(after)
    if any(fields[each] != getattr(head, each) for each in ("columns", "key")) or list(map(list, after.rows)) != before.rows:
        _add_revision(lookup, author, after, change_note)
    return lookup


@transaction.atomic
def archive_lookup(name: str, users: Sequence[str]) -> Lookup:
    """Out of sight, not gone. ``users``: names of what needs it. Raises Conflict."""
    lookup = _locked(name, None)
    if users:
        raise Conflict(f"the lookup '{name}' is used by {', '.join(users)}.", "Change these first.")
    lookup.archived_at = lookup.archived_at or timezone.now()
    lookup.save()
    return lookup


@transaction.atomic
def restore_lookup(author: Person, name: str, revision: int | None, used: Used) -> Lookup:
    """Back from the archive; with a revision number, that revision's content becomes the newest."""
    lookup = _locked(name, None)
    lookup.archived_at = None
    lookup.save()
    if revision is not None and revision != lookup.number:
        _refuse_lost(name, revision_numbered(lookup, revision).table(), used)
        _add_revision(lookup, author, revision_numbered(lookup, revision).table(), f"restored from revision {revision}")
    return lookup


def differences(name: str, before: int, after: int) -> lookup_tables.Differences:
    """Between two revisions. Raises NotFound."""
    lookup = lookup_named(name)
    return lookup_tables.differences(revision_numbered(lookup, before).table(), revision_numbered(lookup, after).table())
