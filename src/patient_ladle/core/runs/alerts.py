"""What an alert says, the same on every channel. Pure."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

OWN_RUN = "own_run"
KINDS = (
    "nothing_runs", "failed", "not_run", "not_delivered", "damaged", "late", "held", "missed", "source_unreachable", "changed",
    "recovered", "summary", "disk_space", "clock", "test", OWN_RUN,
)  # fmt: skip
"""``damaged``: stored files are not what was proven; ``changed``: an open problem has another cause; ``recovered``: it is
over; ``own_run``: for whoever started it, alone."""


@dataclass(frozen=True, slots=True)
class Message:
    """One alert: ``id`` stays the same however often it is sent, so that a receiver can drop what it has."""

    id: str
    kind: str
    title: str
    cause: str
    next_step: str
    link: str
    at: str
    """RFC 3339, in UTC."""

    def to_dict(self) -> dict[str, Any]:
        """Plain JSON, as a webhook gets it."""
        return asdict(self)

    def as_text(self) -> str:
        """As a mail has it."""
        parts = (self.cause, self.next_step, self.link, f"Alert {self.id}, {self.at}")
        return "\n\n".join(part for part in parts if part) + "\n"
