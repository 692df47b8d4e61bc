"""Delivered names and whose they are: a name belongs to the extract and environment whose file stands there.

It is free again once that file is gone. Kept beside the result files, for the descriptor is delivered too.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable

from django.db import connection

from patient_ladle.adapters.deliveries import kind_named, kind_of
from patient_ladle.core.errors import NameTaken
from patient_ladle.core.ports import DeliveryPlan

from .models import DeliveredName, Run


def _key(path: str) -> str:
    return hashlib.sha256(path.encode()).hexdigest()


def owned_by_others(paths: Iterable[str], extract_id: int, environment_id: int) -> list[DeliveredName]:
    """Those of the paths at which a file of another extract, or of another environment, stands."""
    keys = [_key(path) for path in paths]
    found = DeliveredName.objects.filter(pk__in=keys).select_related("extract", "environment")
    return [
        each for each in found.exclude(extract=extract_id, environment=environment_id) if kind_of(each.path).stands(each.path)
    ]


def words_of(name: DeliveredName) -> str:
    """Whose a delivered name is."""
    return f"'{name.path}' is a file of '{name.extract.name}' in {name.environment.name}, delivered by run {name.run_id}"


def claim_names(row: Run, plan: DeliveryPlan) -> None:
    """Nobody else takes these names until the transaction ends. Raises NameTaken where one is another's."""
    finals = sorted({final for _, final, _ in plan.moves})
    with connection.cursor() as cursor:
        for final in finals:
            cursor.execute("select pg_advisory_xact_lock(hashtextextended(%s, 7))", [final])
    others = owned_by_others(kind_named(plan.kind).open_places(plan), row.extract_id, row.environment_id)
    if others:
        raise NameTaken(
            f"{words_of(others[0])}.",
            "Put {extract} and {environment} into the file name, deliver into another folder, or move that file away.",
        )


def own_names(row: Run, plan: DeliveryPlan) -> None:
    """The names are the run's extract's, in its environment."""
    of = {"run_id": row.pk, "extract_id": row.extract_id, "environment_id": row.environment_id}
    made = [DeliveredName(key=_key(final), path=final, **of) for final in sorted({final for _, final, _ in plan.moves})]
    DeliveredName.objects.bulk_create(
        made, update_conflicts=True, unique_fields=["key"], update_fields=["run", "extract", "environment"]
    )
