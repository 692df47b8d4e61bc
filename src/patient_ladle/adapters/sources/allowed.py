"""How every engine refuses what is in none of its lists."""

from __future__ import annotations

from patient_ladle.core.errors import StatementRefused
from patient_ladle.core.statements.parts import place


def not_allowed(text: str, at: int, what: str, name: str = "") -> StatementRefused:
    """For what stands at that place of the text. ``name``: by which an administrator can permit it; empty where nobody can."""
    line, column = place(text, at)
    permit = (
        "; where it is known to be harmless, an administrator can permit it for this source: "
        f"ladle source edit NAME --permit {name}."
    )
    return StatementRefused(
        f"the statement does more than read: {what} (line {line}, column {column}).",
        f"Say it without that{permit if name else '.'}",
        line=line,
        column=column,
    )
