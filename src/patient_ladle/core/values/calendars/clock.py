"""Wall times on the line of time, right on the days on which clocks change.

Rules and theory
----------------
* A fixed time that a change leaves out (02:30 when clocks go from 02:00 to 03:00) happens when the change does.
* A fixed time that comes twice happens the first time.
* Of many times of a day (each 15 minutes) those left out are left out and those that come twice happen twice, so that
  they stay as far apart as they were meant.
"""

from __future__ import annotations

from datetime import date, datetime, time, timedelta, timezone
from functools import lru_cache
from itertools import pairwise
from zoneinfo import ZoneInfo, available_timezones

from patient_ladle.core.errors import BadInput, UnknownName, nearest

UTC = timezone.utc
_MINUTE = timedelta(minutes=1)


@lru_cache(maxsize=1)
def _zones() -> frozenset[str]:
    return frozenset(available_timezones())


def check_zone(name: str) -> ZoneInfo:
    """The zone of that IANA name. Raises UnknownName."""
    if name not in _zones():
        close = _like(name)
        hint = f"Did you mean '{close}'?" if close else "Give a name of the IANA list, such as Europe/London, or UTC."
        raise UnknownName(f"there is no time zone '{name}'.", hint, kind="time zone", given=name)
    return ZoneInfo(name)


def _like(name: str) -> str | None:
    """The zone that was most probably meant; a city alone is looked for among the cities."""
    close = nearest(name, sorted(_zones()), 0.75)
    if close or "/" in name:
        return close
    by_city = {zone.rpartition("/")[2]: zone for zone in sorted(_zones(), reverse=True)}
    city = nearest(name.strip().replace(" ", "_"), by_city, 0.75)
    return by_city[city] if city else None


def _both(zone: ZoneInfo, day: date, wall: time) -> list[datetime]:
    """The moments, none to two, at which clocks show that time of that day."""
    found = []
    for fold in (0, 1):
        naive = datetime.combine(day, wall)
        moment = naive.replace(tzinfo=zone, fold=fold).astimezone(UTC)
        if moment.astimezone(zone).replace(tzinfo=None) == naive and moment not in found:
            found.append(moment)
    return found


def every_moment(zone: ZoneInfo, day: date, walls: list[time]) -> list[datetime]:
    """Of many times of a day: each as often as it comes, in the order of time."""
    return sorted(moment for wall in walls for moment in _both(zone, day, wall))


def one_moment(zone: ZoneInfo, day: date, wall: time) -> datetime:
    """Of a fixed time: once on every day."""
    if found := _both(zone, day, wall):
        return found[0]
    late = datetime.combine(day, wall, zone).astimezone(UTC)  # as if the clock had not changed: after the change
    low, high = late - timedelta(days=1), late
    offset = late.astimezone(zone).utcoffset()
    while high - low > _MINUTE:
        middle = low + (high - low) / 2
        low, high = (low, middle) if middle.astimezone(zone).utcoffset() == offset else (middle, high)
    return high.replace(second=0, microsecond=0)


@lru_cache(maxsize=256)
def changes_oddly(zone: ZoneInfo) -> bool:
    """Whether clocks of the zone change by something else than whole hours, as on Lord Howe Island by half of one."""
    days = (datetime(year, month, 1, tzinfo=UTC) for year in range(2000, 2050) for month in range(1, 13))
    offsets = [day.astimezone(zone).utcoffset() or timedelta() for day in days]
    return any((later - earlier) % timedelta(hours=1) for earlier, later in pairwise(offsets))


def before_day(zone: ZoneInfo, day: date) -> datetime:
    """The last second before that local day, in UTC: moments after it are those of the day and later."""
    return datetime.combine(day, time(), zone).astimezone(UTC) - timedelta(seconds=1)


FIRST_DAY, LAST_DAY = date(1000, 1, 1), date(8999, 12, 31)
"""Between them everything that is reckoned from a day stays within what a calendar has."""


def day_of(text: object, field: str) -> date:
    """A day that runs, schedules and nights are asked for by. Raises BadInput."""
    try:
        day = date.fromisoformat(text)  # type: ignore[arg-type]  # whatever else comes is refused as well
    except (TypeError, ValueError):
        hint = "Give a day that exists, such as 2026-11-24."
        raise BadInput(f"'{field}' was given '{text}', which is not a date.", hint) from None
    if not FIRST_DAY <= day <= LAST_DAY:
        raise BadInput(f"'{field}' was given '{text}'; days from {FIRST_DAY} to {LAST_DAY} are taken.", "Give one of these.")
    return day


def check_order(first: date | None, last: date | None) -> None:
    """Raises BadInput where the last date lies before the first."""
    if first and last and last < first:
        raise BadInput(f"the last date {last} lies before the first one {first}.", "Swap them.")


def change_on(zone: ZoneInfo, day: date) -> str:
    """What clocks do on that day, in words; empty on all but a few days."""
    before, after = (datetime.combine(day + timedelta(days=n), time(), zone).utcoffset() for n in (0, 1))
    if before is None or after is None or before == after:
        return ""
    minutes = int((after - before).total_seconds()) // 60
    size = f"{abs(minutes) // 60} h" if minutes % 60 == 0 else f"{abs(minutes)} min"
    return f"clocks go {'forward' if minutes > 0 else 'back'} by {size} on this day"
