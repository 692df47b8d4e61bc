"""What becomes of each due time: run, skipped or missed, and why. Pure; the scheduler records what is decided here."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from .calendar_rules import check_zone, next_due

LATE_AFTER = timedelta(minutes=2)
"""A due time picked up later than this was missed while the service was down, and its run is flagged late."""

RUN, SKIPPED, MISSED = "run", "skipped", "missed"


@dataclass(frozen=True, slots=True)
class DueDecision:
    """One due time with its data date, decision and reason."""

    due_at: datetime
    data_date: date
    decision: str
    reason: str
    late: bool = False


def decide(
    rule: str, zone: str, first: datetime, now: datetime, paused: str = ""
) -> Iterator[tuple[DueDecision, datetime | None]]:
    """Each due time from ``first`` up to ``now`` with its decision, and the due time that follows it.

    Of the due times missed while the service was down only the latest runs. ``paused`` is the reason of a pause:
    then nothing runs, and each due time is recorded as skipped.
    """
    local = check_zone(zone)
    due: datetime | None = first
    while due is not None and due <= now:
        following = next_due(rule, zone, due)
        late = now - due > LATE_AFTER
        if paused:
            decision, reason = SKIPPED, paused
        elif following is not None and following <= now:
            decision, reason = MISSED, "the service was not running; a later due time runs instead"
        else:
            decision, reason = RUN, "late: the service was not running when it was due" if late else "due"
        yield DueDecision(due, due.astimezone(local).date(), decision, reason, late and decision == RUN), following
        due = following
