"""Steps of an extract: kept in its revisions, checked as far as its columns are known, with the lookups that they name."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from patient_ladle.core.errors import Conflict, of_field
from patient_ladle.core.steps.lookups import Lookup as Table
from patient_ladle.core.values.parameters import Parameter
from patient_ladle.service.children import stepping
from patient_ladle.service.children.judging import judged
from patient_ladle.service.lookups.services import lookup_named, tables_of

from .models import Extract, Revision, with_heads


def understood(given: Any) -> stepping.Understood:
    """What steps say, and that the lookups are there. Raises BadInput and its family."""
    with of_field("steps"):
        found = judged(stepping.understood, given or [])
        for name in found.lookups:
            if lookup_named(name).archived_at is not None:
                raise Conflict(f"the lookup '{name}' is archived.", f"Restore it first: ladle lookup restore {name}.")
    return found


def lookups_of(steps: Sequence[Mapping[str, Any]]) -> list[Table]:
    """The tables that steps look up in, as they are now. Raises UnknownName, Conflict."""
    return tables_of(step["lookup"] for step in steps if step.get("step") == "look_up" and not step.get("off"))


def users_of(lookup: str) -> list[str]:
    """Names of the extracts whose newest revision looks up there."""
    found = Revision.objects.filter(steps__contains=[{"lookup": lookup}]).values_list("extract", flat=True)
    heads = with_heads(Extract.objects.filter(pk__in=found))
    return sorted(each.name for each in heads if any(step.get("lookup") == lookup for step in each.head.steps))


def checked(
    steps: Any, columns: Sequence[Mapping[str, str]], parameters: Sequence[Parameter], statement: int = 1
) -> dict[str, Any]:
    """Each step with its words and the columns after it, and what is wrong with the first that is."""
    found = understood(steps)
    return judged(stepping.checked, found.steps, list(columns), list(parameters), lookups_of(found.steps), statement)
