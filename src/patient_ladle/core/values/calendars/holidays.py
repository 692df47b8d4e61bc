"""Days on which nobody works: a country's, or those of an iCalendar file (RFC 5545)."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime, timedelta
from functools import lru_cache

import holidays as countries
import icalendar
import recurring_ical_events

from patient_ladle.core.errors import BadInput, unknown_name

NO_HOLIDAYS: Mapping[date, str] = {}
YEARS_BACK, YEARS_AHEAD = 2, 12
"""Years for which holidays are reckoned, about the year asked for."""


@lru_cache(maxsize=64)
def of_country(country: str, region: str, year: int) -> Mapping[date, str]:
    """Public holidays of a country (ISO 3166-1 alpha-2) or a region of it (ISO 3166-2), date to name. Raises UnknownName."""
    known = countries.list_supported_countries(include_aliases=True)
    if country not in known:
        raise unknown_name("country", country, known)
    if region and region not in known[country]:
        raise unknown_name(f"region of {country}", region, known[country])
    years = range(year - YEARS_BACK, year + YEARS_AHEAD + 1)
    return dict(countries.country_holidays(country, subdiv=region or None, years=years))


@lru_cache(maxsize=64)
def of_file(text: str, year: int) -> Mapping[date, str]:
    """The days that an iCalendar file's events cover, recurring ones too, date to summary. Raises BadInput."""
    start, end = date(year - YEARS_BACK, 1, 1), date(year + YEARS_AHEAD + 1, 1, 1)
    found: dict[date, str] = {}
    try:
        for event in recurring_ical_events.of(icalendar.Calendar.from_ical(text)).between(start, end):
            first, last = event["DTSTART"].dt, (event.get("DTEND") or event["DTSTART"]).dt
            day, until = _day(first), _day(last)
            while True:
                found[day] = str(event.get("SUMMARY", "holiday"))
                day += timedelta(days=1)
                if day >= until:  # the end of an event of whole days is the day after it
                    break
    except (ValueError, KeyError, IndexError, TypeError, AttributeError) as error:
        raise BadInput(
            f"the text is not an iCalendar file: {str(error).splitlines()[0] if str(error) else type(error).__name__}.",
            "Give a file that begins with BEGIN:VCALENDAR and has an event for each holiday.",
        ) from error
    if not found:
        raise BadInput(
            f"the iCalendar file names no day from {start.year} to {end.year - 1}.",
            "Give a file with an event for each holiday.",
        )
    return found


def _day(moment: date) -> date:
    return moment.date() if isinstance(moment, datetime) else moment
