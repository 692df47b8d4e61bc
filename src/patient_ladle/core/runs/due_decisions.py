"""What becomes of each due time: run, skipped or missed, and why. Pure; the scheduler records what is decided here."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from itertools import islice

from ..values.calendars.clock import check_zone
from ..values.calendars.timing import Timing
from .state_tables import Fields, Move, StateTable

LATE_AFTER = timedelta(minutes=2)
"""A due time picked up later than this was missed while the service was down, and its run is flagged late."""

RUN, SKIPPED, MISSED = "run", "skipped", "missed"
DUE_TIME = StateTable(
    "due time",
    "decision",
    first=(RUN, SKIPPED, MISSED),
    states={RUN: Fields(), SKIPPED: Fields(), MISSED: Fields()},
    moves=(
        Move("skip", (RUN,), SKIPPED, ("reason",)),
        Move("run after all", (RUN, SKIPPED, MISSED), RUN, ("reason",)),
    ),
)
POLICIES = ("latest", "all", "none")
"""Which of the due times that were missed run after all."""


@dataclass(frozen=True, slots=True)
class DueDecision:
    """One due time with its data date, decision and reason."""

    due_at: datetime
    data_date: date
    decision: str
    reason: str
    late: bool = False


@dataclass(frozen=True, slots=True)
class CatchUp:
    """What is done about due times that passed while the service was down.

    ``hours``: none older than that runs; ``most``: of *all*, no more than the last so many. None: no such limit.
    """

    policy: str = "latest"
    hours: int | None = None
    most: int | None = None

    def missed(self, timing: Timing, due: datetime, now: datetime, following: datetime | None) -> str:
        """Why a due time does not run any more; empty where it does."""
        late = now - due > LATE_AFTER
        if late and self.policy == "none":
            return "the service was not running when it was due, and what is missed does not run"
        if late and self.hours is not None and now - due > timedelta(hours=self.hours):
            return f"the service was not running when it was due, more than {self.hours} h ago"
        if self.policy != "all":
            return "the service was not running; a later due time runs instead" if following and following <= now else ""
        if self.most is not None:
            later = sum(moment <= now for moment in islice(timing.due_times(due), self.most))
            if later == self.most:
                return f"the service was not running; only the last {self.most} of those missed run"
        return ""


@dataclass(frozen=True, slots=True)
class Pause:
    """Nothing runs until the moment, or until it is lifted."""

    reason: str
    until: datetime | None = None


def decide(
    timing: Timing, first: datetime, now: datetime, catch_up: CatchUp | None = None, pause: Pause | None = None
) -> Iterator[tuple[DueDecision, datetime | None]]:
    """Each due time from ``first`` up to ``now`` with its decision, and the due time that follows it."""
    local, catch_up = check_zone(timing.zone), catch_up or CatchUp()
    due: datetime | None = first
    moments = timing.due_times(first)
    while due is not None and due <= now:
        following = next(moments, None)
        late = now - due > LATE_AFTER
        if pause and (pause.until is None or due < pause.until):
            decision, reason = SKIPPED, pause.reason
        elif reason := catch_up.missed(timing, due, now, following):
            decision = MISSED
        else:
            decision, reason = RUN, "late: the service was not running when it was due" if late else "due"
        yield DueDecision(due, due.astimezone(local).date(), decision, reason, late and decision == RUN), following
        due = following


def finish_by(due: datetime, zone: str, wall: time) -> datetime:
    """The first moment after a due time at which clocks in the zone show that time."""
    local = due.astimezone(check_zone(zone))
    return next(Timing(f"daily {wall:%H:%M}", zone).due_times(local))
