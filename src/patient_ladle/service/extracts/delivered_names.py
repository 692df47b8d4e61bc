"""Would two extracts deliver under one name: seen when one is saved, before the later one meets the earlier one's file."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Any

from django.db.models import F

from patient_ladle.core.errors import BadInput, Conflict, LadleError
from patient_ladle.core.files.naming import holds, stem
from patient_ladle.service.common.targets import targets_of

from .models import Extract, Revision

_A_DAY = date(2026, 11, 24)


def _allowed(wanted: str) -> frozenset[str]:
    """Targets, less those that are no longer allowed."""
    try:
        return frozenset(targets_of(wanted))
    except LadleError:
        return frozenset()


def _name(template: str, extract: str, folder: str, values: Sequence[str]) -> str:
    """The name on a day, whatever its parameters are, without regard to case, as some file systems have it."""
    known: dict[str, Any] = {"extract": extract, "folder": folder, "data_date": _A_DAY, "environment": "x", "run": "x"}
    return stem(template, {**known, **{f"value.{name}": "x" for name in values}}).casefold()


def refuse_names_of_others(extract: Extract, content: dict[str, Any]) -> None:
    """``content``: the revision about to be saved. Raises Conflict, naming the other extract."""
    targets, template = _allowed(content["deliver_into"]), content["file_name"]
    if not targets or holds(template, "run"):
        return
    ours = _name(template, extract.name, extract.folder, [p["name"] for p in content["parameters"]])
    heads = Revision.objects.filter(number=F("extract__number"), extract__archived_at=None).exclude(deliver_into="")
    for head in heads.exclude(extract=extract.pk).select_related("extract").only(
        "file_name", "deliver_into", "parameters", "extract__name", "extract__folder"
    ):  # fmt: skip
        shared = targets & _allowed(head.deliver_into)
        if not shared or holds(head.file_name, "run"):
            continue
        other = head.extract
        if _name(head.file_name, other.name, other.folder, [p["name"] for p in head.parameters]) == ours:
            raise Conflict(
                f"'{other.name}' delivers into '{min(shared)}' under the same name: {head.file_name}.",
                "Put {extract} into the file name, or deliver into another folder.",
            )


def refuse_names_of_environments(extract: Extract, deliver_into: str, others: Sequence[tuple[str, str, str]]) -> None:
    """``others``: name, environment and own folders of the extract's schedules in other environments. Raises BadInput."""
    head = extract.head
    targets = _allowed(deliver_into or head.deliver_into)
    if holds(head.file_name, "environment") or holds(head.file_name, "run"):
        return
    for name, environment, own in others:
        if targets & _allowed(own or head.deliver_into):
            raise BadInput(
                f"schedule '{name}' delivers '{head.file_name}' from {environment} into the same folder.",
                "Put {environment} into the extract's file name, or give one of the schedules another folder.",
            )
