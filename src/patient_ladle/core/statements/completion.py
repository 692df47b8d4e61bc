"""What may come next while somebody writes a statement, the same from every query language."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

MOST_PROPOSALS = 300
"""Nobody looks through more; typing on asks anew."""


@dataclass(frozen=True, slots=True)
class Proposal:
    """``label`` is shown and matched, ``apply`` is what is put into the text; the higher ``boost``, the further up."""

    label: str
    kind: str
    """column, table, alias, with (a name that the statement makes), parameter, keyword or word (one that the text has)."""
    detail: str = ""
    boost: int = 0
    apply: str = ""

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        return asdict(self) | {"apply": self.apply or self.label}


@dataclass(frozen=True, slots=True)
class Completion:
    """``typed`` stands before the position already, and gives way; ``complete``: typing on adds nothing new."""

    typed: str
    proposals: tuple[Proposal, ...]
    complete: bool = True

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON."""
        return {"typed": self.typed, "proposals": [each.to_dict() for each in self.proposals], "complete": self.complete}
