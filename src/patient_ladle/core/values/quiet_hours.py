"""Hours in which a source is left alone: ``07:00 to 09:30 and 22:00 to 02:00``, by the clocks of a zone."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta

from ..errors import BadInput
from .calendars.clock import check_zone, one_moment

_SPAN = re.compile(r"(\d{1,2}):(\d{2})\s*(?:to|-)\s*(\d{1,2}):(\d{2})")
_BETWEEN = re.compile(r"\s*(?:,|and)\s*")
HINT = "Write it as in '07:00 to 09:30' or '07:00 to 09:30 and 22:00 to 02:00'."


@dataclass(frozen=True, slots=True)
class QuietHours:
    """Spans of a day; one that ends before it begins goes on over midnight."""

    spans: tuple[tuple[time, time], ...]
    zone: str

    @classmethod
    def from_text(cls, text: str, zone: str) -> QuietHours:
        """Raises BadInput, UnknownName."""
        check_zone(zone)
        return cls(tuple(_span(part, text) for part in _BETWEEN.split(text.strip().lower())) if text.strip() else (), zone)

    def end_of(self, now: datetime) -> datetime | None:
        """The moment at which the present quiet hours end; None outside them."""
        zone = check_zone(self.zone)
        today = now.astimezone(zone).date()
        found = None
        for start, end in self.spans:
            for day in (today - timedelta(days=1), today):
                begins, ends = one_moment(zone, day, start), one_moment(zone, _end_day(day, start, end), end)
                if begins <= now < ends:
                    found = max(found or ends, ends)
        return found


def _end_day(day: date, start: time, end: time) -> date:
    return day if end > start else day + timedelta(days=1)


def _span(part: str, text: str) -> tuple[time, time]:
    match = _SPAN.fullmatch(part)
    try:
        if match is None:
            raise ValueError
        a, b, c, d = map(int, match.groups())
        start, end = time(a, b), time(c, d)
    except ValueError:
        raise BadInput(f"'{part}' in the quiet hours '{text}' is not a span of time.", HINT) from None
    if start == end:
        raise BadInput(f"the quiet hours '{part}' would never end.", HINT)
    return start, end
