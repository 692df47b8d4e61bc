"""Calendar rules: a five-field crontab rule in a time zone, and the moments it names.

``cronsim`` is right across daylight saving, but may repeat a moment inside a fold; moments here always move forward
in UTC.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timezone
from functools import lru_cache
from zoneinfo import ZoneInfo, available_timezones

from cronsim import CronSim, CronSimError

from .errors import BadInput, unknown_name

_FOLD_STEPS = 130
"""Steps tried to leave a fold: a rule of every minute repeats 60 of them, a 2 h fold 120."""


@lru_cache(maxsize=1)
def _zones() -> frozenset[str]:
    return frozenset(available_timezones())


def check_zone(name: str) -> ZoneInfo:
    """The zone of that IANA name. Raises UnknownName."""
    if name not in _zones():
        raise unknown_name("time zone", name, _zones())
    return ZoneInfo(name)


def check_rule(rule: str) -> None:
    """Refuse a rule that is not five crontab fields, or names no moment. Raises BadInput."""
    fields = rule.split()
    if len(fields) != 5:
        raise BadInput(
            f"the rule '{rule}' has {len(fields)} fields; a crontab rule has five.",
            "Write minute, hour, day of month, month, day of week: '30 6 * * 1-5' is 06:30 on weekdays.",
        )
    try:
        next(CronSim(rule, datetime(2026, 1, 1, tzinfo=timezone.utc)))
    except (CronSimError, StopIteration) as error:
        reason = str(error) or "it names no moment in the next fifty years"
        raise BadInput(
            f"the rule '{rule}' cannot be read: {reason}.",
            "Write minute, hour, day of month, month, day of week: '30 6 * * 1-5' is 06:30 on weekdays.",
        ) from error


def due_times(rule: str, zone: str, after: datetime) -> Iterator[datetime]:
    """The rule's moments strictly after ``after``, in UTC, each later than the one before."""
    last = after.astimezone(timezone.utc)
    moments = CronSim(rule, last.astimezone(check_zone(zone)))
    while True:
        for _ in range(_FOLD_STEPS):
            found = next(moments).astimezone(timezone.utc)
            if found > last:
                break
        else:
            return
        yield found
        last = found


def next_due(rule: str, zone: str, after: datetime) -> datetime | None:
    """The first moment strictly after ``after`` in UTC; None when the rule names no more."""
    return next(due_times(rule, zone, after), None)
