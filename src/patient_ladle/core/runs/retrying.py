"""Whether a failed attempt is tried again, and when. Pure."""

from __future__ import annotations

import random
from dataclasses import dataclass
from datetime import datetime, timedelta

from ..errors import LadleError

FIRST_WAIT_SECONDS = 30.0
"""Before the second attempt: a server that restarts is back by then."""
LONGEST_WAIT_SECONDS = 900.0
JITTER = 0.2
"""Share by which a wait varies, so that forty runs that failed together do not come back together."""


@dataclass(frozen=True, slots=True)
class RetryPolicy:
    """How long a run is tried: so many attempts, none of them after the moment."""

    attempts: int
    give_up_at: datetime | None = None
    first_wait_seconds: float = FIRST_WAIT_SECONDS

    def wait_seconds(self, attempt: int, chance: random.Random | None = None) -> float:
        """Seconds from the end of that attempt, counted from 1, to the next: doubled each time, within a limit."""
        plain = min(self.first_wait_seconds * 2 ** min(attempt - 1, 20), LONGEST_WAIT_SECONDS)
        return float(plain) * (1 + (chance or random).uniform(-JITTER, JITTER))

    def again_at(
        self, error: LadleError, attempt: int, now: datetime, chance: random.Random | None = None
    ) -> tuple[datetime | None, str]:
        """When the next attempt is due, or None, and why not in words."""
        if not error.transient:
            return None, "it cannot pass by itself, so it is not tried again"
        if attempt >= self.attempts:
            return None, f"given up after {attempt} attempts" if attempt > 1 else "it is not to be tried again"
        again = now + timedelta(seconds=self.wait_seconds(attempt, chance))
        if self.give_up_at is not None and again >= self.give_up_at:
            return None, f"given up: the next attempt would begin after {self.give_up_at:%Y-%m-%d %H:%M} UTC"
        return again, ""
