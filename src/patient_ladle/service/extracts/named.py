"""Extracts by their names, present and former."""

from __future__ import annotations

from patient_ladle.core.errors import Conflict, unknown_name

from .models import Extract


def extract_named(name: str) -> Extract:
    """By its name, or one that it had before. Raises UnknownName."""
    found = Extract.objects.select_related("owner").filter(name=name).first()
    if found is None:
        found = Extract.objects.select_related("owner").filter(former_names__name=name).first()
    if found is None:
        known = Extract.objects.filter(archived_at=None, in_repository=True).values_list("name", flat=True)
        raise unknown_name("extract", name, known, "Save one: ladle extract save.")
    return found


def repository_extract(name: str) -> Extract:
    """One that others may refer to. Raises UnknownName, and Conflict for what was run without being saved."""
    found = extract_named(name)
    if not found.in_repository:
        raise Conflict(
            f"'{name}' was run without being saved.", f"Give it a place first: ladle extract move {name} --name NAME"
        )
    return found


def input_extract(name: str) -> Extract:
    """Whose result an input of a combination is. Raises UnknownName, Conflict."""
    found = repository_extract(name)
    if found.archived_at is not None:
        raise Conflict(f"extract '{found.name}' is archived.", f"Restore it first: ladle extract restore {found.name}")
    return found
