"""A state table as a rule that the database holds."""

from __future__ import annotations

from collections.abc import Mapping

from django.db.models import CheckConstraint, Q

from patient_ladle.core.runs.state_tables import StateTable


def rules_of(table: StateTable, name: str, and_so: Mapping[str, Q] | None = None) -> CheckConstraint:
    """The same for the database: a row is in one of the table's states, with what goes with it. ``and_so``: more, by state."""
    rule = Q()
    for state, fields in table.states.items():
        holds = Q(**{table.field: state}, **{f"{each}__isnull": False for each in fields.filled},
                  **{f"{each}__isnull": True for each in fields.empty})  # fmt: skip
        rule |= holds & (and_so or {}).get(state, Q())
    return CheckConstraint(condition=rule, name=name)
